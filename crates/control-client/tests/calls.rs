//! Calls against small stand-ins for control: what is sent, whom a caller follows, and what a broken link looks like.

use std::io::{BufRead, BufReader, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::sync::mpsc::{Receiver, channel};

use mainyard_control_client::{Control, Pause};
use serde_json::{Value, json};

/// A request as a stand-in received it.
#[derive(Debug)]
struct Received {
    line: String,
    authorization: String,
    body: String,
}

/// Answers each connection with the next of these, and tells what it was sent.
fn stand_in(answers: Vec<String>) -> (String, Receiver<Received>) {
    let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
    let url = format!("http://{}", listener.local_addr().expect("an address"));
    let (tell, received) = channel();
    std::thread::spawn(move || {
        for answer in answers {
            let Ok((mut stream, _)) = listener.accept() else { return };
            let Some(request) = read(&stream) else { return };
            // The test may have ended already.
            let _ = tell.send(request);
            let _ = stream.write_all(answer.as_bytes());
        }
    });
    (url, received)
}

fn read(stream: &TcpStream) -> Option<Received> {
    let mut reader = BufReader::new(stream.try_clone().ok()?);
    let mut line = String::new();
    reader.read_line(&mut line).ok()?;
    let (mut authorization, mut length) = (String::new(), 0);
    loop {
        let mut header = String::new();
        reader.read_line(&mut header).ok()?;
        let Some((name, value)) = header.trim().split_once(": ") else { break };
        match name.to_ascii_lowercase().as_str() {
            "authorization" => authorization = value.to_owned(),
            "content-length" => length = value.parse().ok()?,
            _ => {}
        }
    }
    let mut body = vec![0; length];
    reader.read_exact(&mut body).ok()?;
    Some(Received { line: line.trim().to_owned(), authorization, body: String::from_utf8(body).ok()? })
}

fn answer(status: &str, body: &str) -> String {
    format!("HTTP/1.1 {status}\r\ncontent-length: {}\r\nconnection: close\r\n\r\n{body}", body.len())
}

/// An answer without a length: it ends with the connection.
fn stream(body: &str) -> String {
    format!("HTTP/1.1 200 OK\r\nconnection: close\r\n\r\n{body}")
}

#[tokio::test]
async fn a_report_is_sent_with_the_parts_token() {
    let (url, received) = stand_in(vec![answer("204 No Content", "")]);
    Control::at(&url, "secret")
        .report("/link/nodes/node-1/reports", &json!({"number": 7}))
        .await
        .expect("taken");
    let request = received.recv().expect("a request");
    assert_eq!(request.line, "POST /api/v1/link/nodes/node-1/reports HTTP/1.1");
    assert_eq!(request.authorization, "Bearer secret");
    assert_eq!(serde_json::from_str::<Value>(&request.body).expect("JSON"), json!({"number": 7}));
}

#[tokio::test]
async fn a_caller_follows_to_the_control_that_decides_and_back_when_that_one_is_gone() {
    let (leader, of_leader) = stand_in(vec![answer("200 OK", "")]);
    let other = answer("421 Misdirected Request", &json!({"holder": leader}).to_string());
    let (first, of_first) = stand_in(vec![other, answer("200 OK", "")]);
    let control = Control::at(&first, "secret");
    let refused = control.get("/health").await.expect_err("another control decides");
    assert!(refused.to_string().contains(&leader), "{refused}");
    control.get("/health").await.expect("the leader answers");
    // The leader is gone now: the call fails, and the one after it goes to the control that was known first.
    control.get("/health").await.expect_err("nothing listens there");
    control.get("/health").await.expect("the first one answers");
    assert_eq!((of_leader.try_iter().count(), of_first.try_iter().count()), (1, 2));
}

#[tokio::test]
async fn orders_come_one_a_line_however_they_are_cut_and_end_with_the_link() {
    let (url, _received) =
        stand_in(vec![stream("{\"order\":1}\n{\"ord"), stream("{\"order\":\"ü\"}\nno JSON\n")]);
    let control = Control::at(&url, "secret");
    let mut orders = control.orders("/link/nodes/node-1/orders", &json!({})).await.expect("a link");
    assert_eq!(orders.next::<Value>().await.expect("an order"), json!({"order": 1}));
    let cut = orders.next::<Value>().await.expect_err("half an order");
    assert!(cut.to_string().contains("cannot be read"), "{cut}");
    assert!(orders.next::<Value>().await.is_err(), "the link has ended");

    let mut orders = control.orders("/link/nodes/node-1/orders", &json!({})).await.expect("a link");
    assert_eq!(orders.next::<Value>().await.expect("an order"), json!({"order": "ü"}));
    orders.next::<Value>().await.expect_err("this is no JSON");
}

#[tokio::test]
async fn a_refused_call_is_an_error_with_its_status() {
    let answers = ["401 Unauthorized", "404 Not Found", "500 Internal Server Error"];
    let (url, _received) = stand_in(answers.map(|status| answer(status, "{}")).to_vec());
    let control = Control::at(&url, "wrong");
    for status in ["401", "404", "500"] {
        let failed = control.report("/link/nodes/node-1/reports", &json!({})).await.expect_err("refused");
        assert!(failed.to_string().contains(status), "{failed}");
    }
}

#[tokio::test(start_paused = true)]
async fn pauses_between_calls_grow_up_to_a_second() {
    let mut pause = Pause::default();
    let mut waited = Vec::new();
    for _ in 0..8 {
        let began = tokio::time::Instant::now();
        pause.wait().await;
        waited.push(began.elapsed().as_millis());
    }
    assert_eq!(waited, [20, 40, 80, 160, 320, 640, 1000, 1000]);
}
