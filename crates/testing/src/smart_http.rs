//! Git's own server side over HTTP (`git http-backend`, a program after RFC 3875), behind TLS and a token.

use std::io::{BufRead as _, BufReader, Read as _, Write as _};
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::Arc;

use rustls::pki_types::PrivatePkcs8KeyDer;
use rustls::{ServerConfig, ServerConnection, StreamOwned};

/// A server of the repositories in a folder; it goes with the process.
pub struct SmartHttp {
    /// Its address.
    pub address: SocketAddr,
    /// The authority that its certificate is of, as PEM.
    pub authority: String,
}

impl SmartHttp {
    /// Serves the repositories in `root` as `localhost` to anyone who brings the token.
    pub fn start(root: &Path, token: &str) -> SmartHttp {
        let key = rcgen::KeyPair::generate().expect("a key");
        let mut params = rcgen::CertificateParams::new(vec!["localhost".to_owned()]).expect("a name");
        params.is_ca = rcgen::IsCa::Ca(rcgen::BasicConstraints::Unconstrained);
        let certificate = params.self_signed(&key).expect("a certificate");
        let private = PrivatePkcs8KeyDer::from(key.serialize_der());
        let config = ServerConfig::builder_with_provider(Arc::new(rustls::crypto::ring::default_provider()));
        let config = config.with_safe_default_protocol_versions().expect("versions").with_no_client_auth();
        let config =
            config.with_single_cert(vec![certificate.der().clone()], private.into()).expect("a pair");
        let config = Arc::new(config);
        let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
        let address = listener.local_addr().expect("an address");
        let (root, token) = (root.to_owned(), token.to_owned());
        std::thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                let (config, root, token) = (Arc::clone(&config), root.clone(), token.clone());
                std::thread::spawn(move || serve(stream, config, &root, &token));
            }
        });
        SmartHttp { address, authority: certificate.pem() }
    }
}

/// One request on each connection.
fn serve(stream: TcpStream, config: Arc<ServerConfig>, root: &PathBuf, token: &str) -> Option<()> {
    let connection = ServerConnection::new(config).ok()?;
    let mut stream = BufReader::new(StreamOwned::new(connection, stream));
    let mut first = String::new();
    stream.read_line(&mut first).ok()?;
    let mut words = first.split(' ');
    let (method, target) = (words.next()?.to_owned(), words.next()?.to_owned());
    let mut headers = Vec::new();
    loop {
        let mut line = String::new();
        stream.read_line(&mut line).ok()?;
        let Some((name, value)) = line.trim_end().split_once(": ") else { break };
        headers.push((name.to_ascii_lowercase(), value.to_owned()));
    }
    let header = |name: &str| headers.iter().find(|(known, _)| known == name).map(|(_, value)| value.clone());
    let said = header("authorization").unwrap_or_default();
    if said != format!("Basic {token}") {
        let answer = "HTTP/1.1 401 Unauthorized\r\nWWW-Authenticate: Basic realm=\"git\"\r\nContent-Length: 0\r\nConnection: close\r\n\r\n";
        return stream.get_mut().write_all(answer.as_bytes()).ok();
    }
    let length = header("content-length").and_then(|length| length.parse().ok()).unwrap_or(0);
    let mut body = vec![0; length];
    stream.read_exact(&mut body).ok()?;
    let (path, query) = target.split_once('?').unwrap_or((&target, ""));
    let mut program = Command::new("git");
    program.arg("http-backend").env_clear().env("PATH", "/usr/local/bin:/usr/bin:/bin");
    program.env("GIT_PROJECT_ROOT", root).env("GIT_HTTP_EXPORT_ALL", "1").env("REQUEST_METHOD", method);
    program.env("PATH_INFO", path).env("QUERY_STRING", query).env("CONTENT_LENGTH", length.to_string());
    program.env("CONTENT_TYPE", header("content-type").unwrap_or_default());
    program.env("HTTP_CONTENT_ENCODING", header("content-encoding").unwrap_or_default());
    program.env("GIT_PROTOCOL", header("git-protocol").unwrap_or_default());
    program
        .env("GIT_CONFIG_COUNT", "1")
        .env("GIT_CONFIG_KEY_0", "safe.directory")
        .env("GIT_CONFIG_VALUE_0", "*");
    let mut child = program.stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().ok()?;
    child.stdin.take()?.write_all(&body).ok()?;
    let answer = child.wait_with_output().ok()?.stdout;
    let end = answer.windows(4).position(|four| four == b"\r\n\r\n")?;
    let head = String::from_utf8_lossy(&answer[..end]);
    let status = head.lines().find_map(|line| line.strip_prefix("Status: ")).unwrap_or("200 OK");
    let rest: Vec<&str> = head.lines().filter(|line| !line.starts_with("Status: ")).collect();
    let sent = &answer[end + 4..];
    let head = format!(
        "HTTP/1.1 {status}\r\n{}\r\nContent-Length: {}\r\nConnection: close\r\n\r\n",
        rest.join("\r\n"),
        sent.len()
    );
    stream.get_mut().write_all(head.as_bytes()).ok()?;
    stream.get_mut().write_all(sent).ok()?;
    stream.get_mut().conn.send_close_notify();
    stream.get_mut().flush().ok()
}
