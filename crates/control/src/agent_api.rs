//! Where node agents and gateways call in: order streams, reports, blobs, and streams that were asked for.

use std::time::Duration;

use actix_web::HttpResponse;
use actix_web::http::Method;
use actix_web::web::{Bytes, Data, Json, Path, Payload};
use futures_util::StreamExt;
use mainyard_core::link::{GatewayHello, GatewayReport, NodeHello, NodeReport};
use mainyard_core::model::Name;
use mainyard_core::sizing::Usage;
use mainyard_images::Digest;
use tokio::sync::mpsc;

use crate::Control;
use crate::callers::{AnyPart, GatewayPart, NodeAgent};
use crate::leader::Message;
use crate::operations::{Limits, Operations};
use crate::problem::Problem;

/// Something is said at least this often.
const BEAT: Duration = Duration::from_secs(3);

/// Largest report of a node or a gateway.
const REPORT: Limits = Limits::bytes(64 << 20);
/// A stream that was asked for goes on for as long as it is read.
const STREAM: Limits = Limits { within: 7 * 24 * 3600, pause: Some(24 * 3600), ..Limits::streamed(1 << 40) };

/// What parts call.
pub fn operations(to: &mut Operations) {
    to.add(Method::POST, "/link/nodes/{node}/orders", Limits::SMALL, node_orders)
        .add(Method::POST, "/link/nodes/{node}/reports", REPORT, node_reports)
        .add(Method::POST, "/link/nodes/{node}/usage", REPORT, node_usage)
        .add(Method::POST, "/link/gateways/{gateway}/orders", Limits::SMALL, gateway_orders)
        .add(Method::POST, "/link/gateways/{gateway}/reports", REPORT, gateway_reports)
        .add(Method::POST, "/link/streams/{stream}", STREAM, stream)
        .get("/link/blobs/{digest}", blob);
}

/// Lines as they come, and a beat when none does.
fn lines(orders: mpsc::UnboundedReceiver<Bytes>, beat: Bytes) -> HttpResponse {
    let stream = futures_util::stream::unfold((orders, beat), |(mut orders, beat)| async move {
        let line = match tokio::time::timeout(BEAT, orders.recv()).await {
            Ok(line) => line?,
            Err(_) => beat.clone(),
        };
        Some((Ok::<_, std::convert::Infallible>(line), (orders, beat)))
    });
    HttpResponse::Ok().content_type("application/x-ndjson").streaming(stream)
}

/// Nodes and gateways talk to the control that decides.
fn decides(control: &Control) -> Result<(), Problem> {
    control.leader.elsewhere().map_or(Ok(()), |holder| Err(Problem::elsewhere(holder)))
}

async fn node_orders(
    _: NodeAgent,
    control: Data<Control>,
    node: Path<Name>,
    hello: Json<NodeHello>,
) -> Result<HttpResponse, Problem> {
    decides(&control)?;
    if hello.node != *node {
        return Err(Problem::forbidden(format!("{node} says that it is {}", hello.node)));
    }
    let orders = control.links.add_node(&node);
    control.leader.tell(Message::Hello(hello.into_inner()));
    Ok(lines(orders, Bytes::from_static(b"\"beat\"\n")))
}

async fn node_reports(
    _: NodeAgent,
    control: Data<Control>,
    node: Path<Name>,
    report: Json<NodeReport>,
) -> Result<HttpResponse, Problem> {
    decides(&control)?;
    control.leader.tell(Message::Node(node.into_inner(), report.into_inner()));
    Ok(HttpResponse::NoContent().finish())
}

/// What replicas used. It is no part of the cluster, and goes straight into the record.
async fn node_usage(
    _: NodeAgent,
    control: Data<Control>,
    usage: Json<Vec<Usage>>,
) -> Result<HttpResponse, Problem> {
    decides(&control)?;
    control.store.add_usage(&usage).await?;
    Ok(HttpResponse::NoContent().finish())
}

async fn gateway_orders(
    _: GatewayPart,
    control: Data<Control>,
    gateway: Path<String>,
    hello: Json<GatewayHello>,
) -> Result<HttpResponse, Problem> {
    decides(&control)?;
    let orders = control.links.add_gateway(&gateway);
    control.leader.tell(Message::GatewayCalled(gateway.into_inner(), hello.into_inner()));
    Ok(lines(orders, Bytes::from_static(b"\"beat\"\n")))
}

async fn gateway_reports(
    _: GatewayPart,
    control: Data<Control>,
    gateway: Path<String>,
    report: Json<GatewayReport>,
) -> Result<HttpResponse, Problem> {
    decides(&control)?;
    control.leader.tell(Message::Gateway(gateway.into_inner(), report.into_inner()));
    Ok(HttpResponse::NoContent().finish())
}

async fn stream(
    part: AnyPart,
    control: Data<Control>,
    stream: Path<u64>,
    mut body: Payload,
) -> Result<HttpResponse, Problem> {
    let to = control.links.take_stream(*stream, &part.0);
    let to = to.ok_or_else(|| Problem::not_found(format!("nobody asked for stream {stream}")))?;
    while let Some(chunk) = body.next().await {
        let chunk = chunk.map_err(|error| Problem::invalid(error.to_string()))?;
        if to.send(chunk).await.is_err() {
            break; // the one who asked has gone
        }
    }
    Ok(HttpResponse::NoContent().finish())
}

async fn blob(_: AnyPart, control: Data<Control>, digest: Path<String>) -> Result<HttpResponse, Problem> {
    let digest = Digest::parse(&digest).map_err(|error| Problem::invalid(error.to_string()))?;
    let path = control.images.path(&digest);
    let file = tokio::fs::File::open(path)
        .await
        .map_err(|_| Problem::not_found(format!("the store has no blob {digest}")))?;
    Ok(HttpResponse::Ok()
        .content_type("application/octet-stream")
        .streaming(tokio_util::io::ReaderStream::with_capacity(file, 256 * 1024)))
}
