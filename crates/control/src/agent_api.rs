//! The calls of node agents and gateways: order streams, reports, blobs, and requested streams.

use std::time::Duration;

use actix_web::HttpResponse;
use actix_web::body::SizedStream;
use actix_web::http::header::{CONTENT_RANGE, RANGE};
use actix_web::web::Bytes;
use futures_util::StreamExt;
use mainyard_api::{
    FollowGatewayOrders, FollowNodeOrders, Problem, ReadBlob, ReportFetches, ReportGateway, ReportNode,
    ReportUsage, SendStream,
};
use mainyard_core::sizing::Usage;
use mainyard_images::Digest;
use mainyard_registry::{ByteRange, requested};
use tokio::sync::mpsc;

use crate::Control;
use crate::leader::Message;
use crate::operations::{Call, Operations, lines};
use crate::problem::{elsewhere, of_blobs, of_record};

/// Something is said at least this often.
const BEAT: Duration = Duration::from_secs(3);

/// The API for node agents and gateways.
pub(crate) fn operations(to: &mut Operations) {
    to.mount(node_orders)
        .mount(node_reports)
        .mount(node_usage)
        .mount(node_fetches)
        .mount(gateway_orders)
        .mount(gateway_reports)
        .mount(stream)
        .mount(blob);
}

/// Lines as they come, and a beat when none does.
fn with_beat(orders: mpsc::UnboundedReceiver<Bytes>, beat: Bytes) -> HttpResponse {
    lines(futures_util::stream::unfold((orders, beat), |(mut orders, beat)| async move {
        let line = match tokio::time::timeout(BEAT, orders.recv()).await {
            Ok(line) => line?,
            Err(_) => beat.clone(),
        };
        Some((line, (orders, beat)))
    }))
}

/// Nodes and gateways talk to the control that decides.
pub(crate) fn decides(control: &Control) -> Result<(), Problem> {
    control.leader.elsewhere().map_or(Ok(()), |holder| Err(elsewhere(holder)))
}

async fn node_orders(call: Call<FollowNodeOrders>) -> Result<HttpResponse, Problem> {
    decides(&call.control)?;
    let (node, hello) = (call.path.node, call.body);
    if hello.node != node {
        return Err(Problem::forbidden(format!("{node} says that it is {}", hello.node)));
    }
    let orders = call.control.links.add_node(&node);
    call.control.builds.greet(&call.control.links, &node);
    call.control.leader.tell(Message::Hello(hello));
    Ok(with_beat(orders, Bytes::from_static(b"\"beat\"\n")))
}

async fn node_reports(call: Call<ReportNode>) -> Result<(), Problem> {
    decides(&call.control)?;
    call.control.leader.tell(Message::Node(call.path.node, call.body));
    Ok(())
}

/// Usage of replicas. It is no part of the cluster: heights go straight into the record, what is used now is for those that
/// follow their load.
async fn node_usage(call: Call<ReportUsage>) -> Result<(), Problem> {
    decides(&call.control)?;
    call.control.traffic.note_usage(&call.body);
    let recorded: Vec<Usage> = call.body.into_iter().filter(Usage::is_to_be_recorded).collect();
    call.control.store.add_usage(&recorded).await.map_err(of_record)?;
    Ok(())
}

async fn node_fetches(call: Call<ReportFetches>) -> Result<(), Problem> {
    decides(&call.control)?;
    call.control.fetches.set(call.path.node, call.body);
    Ok(())
}

async fn gateway_orders(call: Call<FollowGatewayOrders>) -> Result<HttpResponse, Problem> {
    decides(&call.control)?;
    let gateway = call.path.gateway;
    let orders = call.control.links.add_gateway(gateway.as_str());
    call.control.builds.steps.tell_gateways(&call.control.links);
    call.control.leader.tell(Message::GatewayCalled(gateway.to_string(), call.body));
    Ok(with_beat(orders, Bytes::from_static(b"\"beat\"\n")))
}

async fn gateway_reports(call: Call<ReportGateway>) -> Result<(), Problem> {
    decides(&call.control)?;
    call.control.leader.tell(Message::Gateway(call.path.gateway.to_string(), call.body));
    Ok(())
}

async fn stream(mut call: Call<SendStream>) -> Result<(), Problem> {
    let stream = call.path.stream;
    let to = call.control.links.take_stream(stream, &call.caller.0);
    let to = to.ok_or_else(|| Problem::not_found(format!("no client asked for stream {stream}")))?;
    while let Some(chunk) = call.body.next().await {
        let chunk = chunk.map_err(|error| Problem::invalid(error.to_string()))?;
        if to.send(chunk).await.is_err() {
            break; // the one who asked has gone
        }
    }
    Ok(())
}

/// A blob, from the byte on that is asked for: an agent goes on where it was interrupted.
async fn blob(call: Call<ReadBlob>) -> Result<HttpResponse, Problem> {
    let digest = Digest::parse(&call.path.digest).map_err(|error| Problem::invalid(error.to_string()))?;
    let asked = call.request.headers().get(RANGE).and_then(|value| value.to_str().ok());
    let mut range = None;
    let body = call.control.blobs.stream(&digest, |length| {
        range = requested(asked, length).ok().flatten();
        range
    });
    let body = body.await.map_err(of_blobs)?;
    let length = body.length;
    let mut answer = match range {
        Some(ByteRange { first, last }) => {
            let mut answer = HttpResponse::PartialContent();
            answer.insert_header((CONTENT_RANGE, format!("bytes {first}-{last}/{length}")));
            answer
        }
        None => HttpResponse::Ok(),
    };
    answer.content_type("application/octet-stream");
    Ok(answer.body(SizedStream::new(range.map_or(length, ByteRange::len), body.pieces)))
}
