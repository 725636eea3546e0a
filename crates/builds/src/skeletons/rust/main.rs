//! A small web service: it answers what it is asked for, and says when it is well.

use std::io::{BufRead, BufReader, Write};
use std::net::{TcpListener, TcpStream};

/// The status and the text for a path.
fn answer(path: &str) -> (&'static str, String) {
    match path {
        "/healthz" => ("200 OK", "well\n".to_owned()),
        "/" => ("200 OK", "Hello from NAME.\n".to_owned()),
        _ => ("404 Not Found", format!("There is nothing at {path}.\n")),
    }
}

fn serve(mut stream: TcpStream) -> std::io::Result<()> {
    let mut reader = BufReader::new(stream.try_clone()?);
    let mut line = String::new();
    reader.read_line(&mut line)?;
    let path = line.split_whitespace().nth(1).unwrap_or("/").split('?').next().unwrap_or("/").to_owned();
    // The head ends with an empty line.
    while reader.read_line(&mut line)? > 2 {
        line.clear();
    }
    let (status, text) = answer(&path);
    let head = format!("HTTP/1.1 {status}\r\nContent-Type: text/plain; charset=utf-8\r\nContent-Length: {}\r\nConnection: close\r\n\r\n", text.len());
    stream.write_all((head + &text).as_bytes())
}

fn main() -> std::io::Result<()> {
    let port = std::env::var("PORT").ok().and_then(|port| port.parse().ok()).unwrap_or(8080);
    let listener = TcpListener::bind(("0.0.0.0", port))?;
    println!("listening on port {port}");
    for stream in listener.incoming() {
        let stream = stream?;
        std::thread::spawn(move || serve(stream));
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::answer;

    #[test]
    fn it_says_that_it_is_well_and_what_is_not_there_is_told() {
        assert_eq!(answer("/healthz"), ("200 OK", "well\n".to_owned()));
        assert_eq!(answer("/nothing").0, "404 Not Found");
    }
}
