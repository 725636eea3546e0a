//! A small HTTP/1.1 server and client on plain sockets: enough for the demo, quick to start.

use std::io::{self, BufRead, BufReader, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::sync::Arc;
use std::time::Duration;

use base64::Engine;
use sha1::{Digest, Sha1};

/// A request whose body has not been read yet.
pub(crate) struct Request {
    pub method: String,
    pub path: String,
    headers: Vec<(String, String)>,
    reader: BufReader<TcpStream>,
}

impl Request {
    pub(crate) fn header(&self, name: &str) -> Option<&str> {
        self.headers.iter().find(|(key, _)| key.eq_ignore_ascii_case(name)).map(|(_, value)| value.as_str())
    }

    /// Hands the body on piece by piece; gives its length.
    pub(crate) fn body(&mut self, mut each: impl FnMut(&[u8]) -> io::Result<()>) -> io::Result<u64> {
        if self.header("transfer-encoding").is_some_and(|value| value.eq_ignore_ascii_case("chunked")) {
            let mut total = 0;
            loop {
                let line = read_line(&mut self.reader)?;
                let size = u64::from_str_radix(line.split(';').next().unwrap_or("").trim(), 16);
                let size = size.map_err(|_| io::Error::from(io::ErrorKind::InvalidData))?;
                total += copy(&mut self.reader, size, &mut each)?;
                read_line(&mut self.reader)?;
                if size == 0 {
                    return Ok(total);
                }
            }
        }
        let length = self.header("content-length").and_then(|value| value.parse().ok()).unwrap_or(0);
        copy(&mut self.reader, length, &mut each)
    }
}

fn copy(
    from: &mut impl Read,
    mut left: u64,
    each: &mut impl FnMut(&[u8]) -> io::Result<()>,
) -> io::Result<u64> {
    let mut chunk = vec![0; 64 * 1024];
    let total = left;
    while left > 0 {
        let want = chunk.len().min(left as usize);
        let got = from.read(&mut chunk[..want])?;
        if got == 0 {
            return Err(io::ErrorKind::UnexpectedEof.into());
        }
        each(&chunk[..got])?;
        left -= got as u64;
    }
    Ok(total)
}

fn read_line(reader: &mut impl BufRead) -> io::Result<String> {
    let mut line = String::new();
    if reader.take(16 * 1024).read_line(&mut line)? == 0 {
        return Err(io::ErrorKind::UnexpectedEof.into());
    }
    Ok(line.trim_end().to_owned())
}

/// The writer of an answer.
pub(crate) struct Answer<'a> {
    to: &'a mut TcpStream,
}

impl Answer<'_> {
    pub(crate) fn send(&mut self, status: &str, kind: &str, body: &str) -> io::Result<()> {
        self.head(status, kind, body.len() as u64, body.as_bytes())
    }

    /// The head, and the first bytes of the body with it in one packet.
    pub(crate) fn head(&mut self, status: &str, kind: &str, length: u64, first: &[u8]) -> io::Result<()> {
        let mut out =
            format!("HTTP/1.1 {status}\r\ncontent-type: {kind}\r\ncontent-length: {length}\r\n\r\n")
                .into_bytes();
        out.extend_from_slice(first);
        self.to.write_all(&out)
    }

    pub(crate) fn more(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.to.write_all(bytes)
    }
}

/// Serves forever; each connection has its thread.
pub(crate) fn serve(
    port: u16,
    handle: impl Fn(&mut Request, &mut Answer<'_>) -> io::Result<()> + Send + Sync + 'static,
) -> io::Result<()> {
    let host = std::env::var("HOST").unwrap_or_else(|_| "0.0.0.0".to_owned());
    let listener = TcpListener::bind((host.as_str(), port))?;
    println!("listening on 0.0.0.0:{port}");
    let handle = Arc::new(handle);
    for connection in listener.incoming() {
        let Ok(stream) = connection else { continue };
        let handle = Arc::clone(&handle);
        let thread = std::thread::Builder::new().stack_size(256 * 1024);
        let spawned = thread.spawn(move || {
            let _ = talk(stream, &*handle);
        });
        if spawned.is_err() {
            eprintln!("no thread for another connection");
        }
    }
    Ok(())
}

fn talk(
    mut stream: TcpStream,
    handle: &(impl Fn(&mut Request, &mut Answer<'_>) -> io::Result<()> + ?Sized),
) -> io::Result<()> {
    stream.set_nodelay(true)?;
    let mut reader = BufReader::new(stream.try_clone()?);
    loop {
        let first = read_line(&mut reader)?;
        let mut words = first.split(' ');
        let (method, path) = (words.next().unwrap_or("").to_owned(), words.next().unwrap_or("/").to_owned());
        let mut headers = Vec::new();
        loop {
            let line = read_line(&mut reader)?;
            let Some((key, value)) = line.split_once(':') else { break };
            headers.push((key.to_owned(), value.trim().to_owned()));
        }
        let mut request = Request { method, path, headers, reader };
        if let Some(key) = request.header("sec-websocket-key").map(str::to_owned) {
            return web_socket(&mut stream, &mut request.reader, &key);
        }
        handle(&mut request, &mut Answer { to: &mut stream })?;
        if request.header("connection").is_some_and(|value| value.eq_ignore_ascii_case("close")) {
            return Ok(());
        }
        reader = request.reader;
    }
}

/// RFC 6455: greets, then sends every text back.
fn web_socket(stream: &mut TcpStream, reader: &mut impl Read, key: &str) -> io::Result<()> {
    let digest = Sha1::digest(format!("{key}258EAFA5-E914-47DA-95CA-C5AB0DC85B11"));
    let accept = base64::engine::general_purpose::STANDARD.encode(digest);
    write!(
        stream,
        "HTTP/1.1 101 Switching Protocols\r\nupgrade: websocket\r\nconnection: Upgrade\r\n\
         sec-websocket-accept: {accept}\r\n\r\n"
    )?;
    let mut head = [0; 2];
    loop {
        reader.read_exact(&mut head)?;
        let (opcode, length) = (head[0] & 15, usize::from(head[1] & 127));
        if length > 125 || head[1] & 128 == 0 {
            return Ok(()); // short, masked frames are all this end speaks
        }
        let mut mask = [0; 4];
        reader.read_exact(&mut mask)?;
        let mut text = vec![0; length];
        reader.read_exact(&mut text)?;
        text.iter_mut().zip(mask.iter().cycle()).for_each(|(byte, mask)| *byte ^= mask);
        let mut frame = vec![0x80 | opcode, length as u8];
        frame.extend_from_slice(&text);
        stream.write_all(&frame)?;
        if opcode == 8 {
            return Ok(());
        }
    }
}

/// A replica's own file of service names is asked first, if there is one.
fn address_of(host: &str) -> String {
    let names = std::env::var("MAINYARD_HOSTS").ok().and_then(|file| std::fs::read_to_string(file).ok());
    let found = names.as_deref().unwrap_or("").lines().find_map(|line| {
        let (address, name) = line.split_once(' ')?;
        (name == host).then(|| address.to_owned())
    });
    found.unwrap_or_else(|| host.to_owned())
}

/// One GET to another service; gives status and body.
pub(crate) fn get(host: &str, port: u16, path: &str) -> io::Result<(u16, String)> {
    let address = address_of(host);
    let address = address.as_str();
    // Without rights, the platform takes callers of a low port 8000 higher.
    let mut stream = TcpStream::connect((address, port)).or_else(|error| match error.kind() {
        io::ErrorKind::ConnectionRefused => TcpStream::connect((address, port.saturating_add(8000))),
        _ => Err(error),
    })?;
    stream.set_read_timeout(Some(Duration::from_secs(5)))?;
    write!(stream, "GET {path} HTTP/1.1\r\nhost: {host}\r\nconnection: close\r\n\r\n")?;
    let mut text = String::new();
    stream.read_to_string(&mut text)?;
    let status = text.split(' ').nth(1).and_then(|code| code.parse().ok()).unwrap_or(0);
    let body = text.split_once("\r\n\r\n").map_or("", |(_, body)| body).to_owned();
    Ok((status, body))
}
