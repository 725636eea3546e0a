//! The API of node agents and gateways: streams of orders, reports, content of images, and requested streams.

use mainyard_core::link::{
    GatewayHello, GatewayOrder, GatewayReport, ImageFetch, NodeHello, NodeOrder, NodeReport,
};
use mainyard_core::sizing::Usage;

use crate::operation::{
    AnyPart, Binary, GatewayPart, JsonBody, LineAnswer, NoBody, NoContent, NodeAgent, StreamBody, operations,
};
use crate::{AnyQuery, Limits, OfBlob, OfGateway, OfNode, OfStream};

/// Largest report of a node or a gateway.
const REPORT: Limits = Limits::bytes(64 << 20);
/// A stream that was asked for goes on for as long as it is read.
const STREAM: Limits = Limits { within: 7 * 24 * 3600, pause: Some(24 * 3600), ..Limits::streamed(1 << 40) };

operations! {
    /// Opens a node agent's stream of orders.
    FollowNodeOrders: Post "/api/v1/link/nodes/{node}/orders" {
        caller: NodeAgent, path: OfNode, query: AnyQuery, body: JsonBody<NodeHello>, limits: Limits::SMALL,
        answer: LineAnswer<NodeOrder>, problems: [],
    }
    /// Takes a node agent's report.
    ReportNode: Post "/api/v1/link/nodes/{node}/reports" {
        caller: NodeAgent, path: OfNode, query: AnyQuery, body: JsonBody<NodeReport>, limits: REPORT,
        answer: NoContent, problems: [],
    }
    /// Takes what replicas of a node used.
    ReportUsage: Post "/api/v1/link/nodes/{node}/usage" {
        caller: NodeAgent, path: OfNode, query: AnyQuery, body: JsonBody<Vec<Usage>>, limits: REPORT,
        answer: NoContent, problems: [],
    }
    /// Takes how far the images are that a node fetches; an empty list when there are none any more.
    ReportFetches: Post "/api/v1/link/nodes/{node}/fetches" {
        caller: NodeAgent, path: OfNode, query: AnyQuery, body: JsonBody<Vec<ImageFetch>>, limits: REPORT,
        answer: NoContent, problems: [],
    }
    /// Opens a gateway's stream of orders.
    FollowGatewayOrders: Post "/api/v1/link/gateways/{gateway}/orders" {
        caller: GatewayPart, path: OfGateway, query: AnyQuery, body: JsonBody<GatewayHello>, limits: Limits::SMALL,
        answer: LineAnswer<GatewayOrder>, problems: [],
    }
    /// Takes a gateway's report.
    ReportGateway: Post "/api/v1/link/gateways/{gateway}/reports" {
        caller: GatewayPart, path: OfGateway, query: AnyQuery, body: JsonBody<GatewayReport>, limits: REPORT,
        answer: NoContent, problems: [],
    }
    /// Takes a stream that a part was asked for, such as a log.
    SendStream: Post "/api/v1/link/streams/{stream}" {
        caller: AnyPart, path: OfStream, query: AnyQuery, body: StreamBody, limits: STREAM,
        answer: NoContent, problems: [NotFound],
    }
    /// Returns content of the image store.
    ReadBlob: Get "/api/v1/link/blobs/{digest}" {
        caller: AnyPart, path: OfBlob, query: AnyQuery, body: NoBody, limits: Limits::NONE,
        answer: Binary, problems: [NotFound],
    }
}
