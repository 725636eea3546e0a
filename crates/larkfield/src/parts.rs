//! The parts: the lockers' API, the couriers' page, the label printer, the server of forms.

use std::io;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

use crate::Release;
use crate::http::{Answer, Request, get, serve};

/// Which replica this is, as the platform told it; where nobody did, the machine's name.
fn own_name() -> String {
    let told = |key| std::env::var(key).ok();
    if let (Some(workload), Some(replica)) = (told("MAINYARD_WORKLOAD"), told("MAINYARD_REPLICA")) {
        return format!("{workload}-{replica}");
    }
    std::fs::read_to_string("/proc/sys/kernel/hostname").unwrap_or_default().trim().to_owned()
}

fn port() -> u16 {
    std::env::var("PORT").ok().and_then(|text| text.parse().ok()).unwrap_or(8080)
}

fn run_server(
    port: u16,
    handle: impl Fn(&mut Request, &mut Answer<'_>) -> io::Result<()> + Send + Sync + 'static,
) {
    if let Err(error) = serve(port, handle) {
        eprintln!("cannot serve on {port}: {error}");
        std::process::exit(1);
    }
}

/// Takes memory for good, `step` bytes at a time.
fn grow(step: usize, pause: Duration) {
    let mut kept: Vec<Vec<u8>> = Vec::new();
    loop {
        kept.push(vec![7; step]);
        std::thread::sleep(pause);
    }
}

/// A setting that is a number.
fn setting(name: &str) -> Option<u64> {
    std::env::var(name).ok()?.parse().ok()
}

/// Steps of a locker-api release before it serves; settings make them slow or let them fail.
fn migrate(release: &Release) -> ! {
    println!("the locker map is brought to version {}", release.version);
    std::thread::sleep(Duration::from_millis(setting("MIGRATION_MILLIS").unwrap_or(50)));
    match setting("MIGRATION_CODE").unwrap_or(0) {
        0 => println!("12 tables are as they should be"),
        code => println!("table 7 of 12 has rows that version {} does not know: {code}", release.version),
    }
    std::process::exit(setting("MIGRATION_CODE").unwrap_or(0) as i32)
}

pub(crate) fn locker_api(release: Release) {
    if std::env::args().nth(1).as_deref() == Some("migrate") {
        migrate(&release);
    }
    println!("locker-api {} starts", release.version);
    if let Ok(password) = std::env::var("DB_PASSWORD") {
        println!("the database takes a password of {} characters", password.chars().count());
    }
    if let Some(path) = std::env::var_os("KIOSK_KEY_FILE") {
        match std::fs::read(&path) {
            Ok(key) => println!("the kiosk's key has {} bytes", key.len()),
            Err(error) => println!("the kiosk's key cannot be read: {error}"),
        }
    }
    // Some programs read much before they listen.
    std::thread::sleep(Duration::from_millis(setting("START_MILLIS").unwrap_or(0)));
    let listen = if release.fault == "other-port" { 9090 } else { port() };
    if release.fault == "memory" {
        std::thread::spawn(|| grow(2 << 20, Duration::from_millis(50)));
    }
    let (count, name, started) = (AtomicU64::new(0), own_name(), Instant::now());
    run_server(listen, move |request, answer| {
        let path = request.path.clone();
        let path = path.split('?').next().unwrap_or("/");
        if path == "/ready" {
            // A program that is overwhelmed from time to time: ready this long of every three times as long.
            if let Some(turn) = setting("READY_IN_TURNS_MILLIS").filter(|turn| *turn > 0)
                && started.elapsed().as_millis() as u64 % (turn * 3) >= turn
            {
                return answer.send("503 Service Unavailable", "text/plain", "overwhelmed\n");
            }
            return match release.fault.as_str() {
                "never-ready" => {
                    answer.send("503 Service Unavailable", "text/plain", "still reading the locker map\n")
                }
                _ => answer.send("200 OK", "text/plain", "ready\n"),
            };
        }
        let number = count.fetch_add(1, Ordering::Relaxed);
        if release.fault == "errors" && number % 10 == 9 {
            eprintln!("{} {path}: the compartment map has no row for this locker", request.method);
            return answer.send("500 Internal Server Error", "text/plain", "no such row\n");
        }
        api(request, answer, path, &release, &name, started)
    });
}

fn api(
    request: &mut Request,
    answer: &mut Answer<'_>,
    path: &str,
    release: &Release,
    name: &str,
    started: Instant,
) -> io::Result<()> {
    let json = "application/json";
    match path.trim_matches('/').split('/').collect::<Vec<_>>()[..] {
        [""] | ["who"] => {
            let body = format!(
                "{{\"replica\":\"{name}\",\"version\":\"{}\",\"up_ms\":{}}}\n",
                release.version,
                started.elapsed().as_millis()
            );
            answer.send("200 OK", json, &body)
        }
        ["lockers", locker, "compartments"] => {
            let number: u32 = locker.parse().unwrap_or(1);
            let free: Vec<String> = (1..=12)
                .filter(|n| !(n * 7 + number).is_multiple_of(3))
                .map(|n: u32| n.to_string())
                .collect();
            let body = format!("{{\"locker\":{number},\"free\":[{}]}}\n", free.join(","));
            println!("{} {path} 200", request.method);
            answer.send("200 OK", json, &body)
        }
        ["labels", "next"] => answer.send("200 OK", json, "{\"parcel\":\"LK-4821\",\"compartment\":7}\n"),
        ["headers"] => {
            let seen = ["host", "x-request-id", "x-forwarded-for", "x-forwarded-proto", "x-forwarded-host"];
            let lines = seen.map(|key| format!("{key}: {}\n", request.header(key).unwrap_or("-")));
            answer.send("200 OK", "text/plain", &lines.concat())
        }
        // What a name stands for, by the system's own resolver library.
        ["lookup", name] => match std::net::ToSocketAddrs::to_socket_addrs(&(name, 0)) {
            Ok(found) => {
                let found: Vec<String> = found.map(|address| address.ip().to_string()).collect();
                answer.send("200 OK", "text/plain", &format!("{}\n", found.join(" ")))
            }
            Err(error) => answer.send("404 Not Found", "text/plain", &format!("{error}\n")),
        },
        // What another service answers, `host` or `host:port`.
        ["ask", to] => {
            let (host, port) =
                to.split_once(':').map_or((to, 80), |(host, port)| (host, port.parse().unwrap_or(80)));
            let (status, body) = get(host, port, "/who")?;
            answer.send("200 OK", "text/plain", &format!("{status} {body}\n"))
        }
        ["slow", ms] => {
            println!("{} {path} begins", request.method);
            std::thread::sleep(Duration::from_millis(ms.parse().unwrap_or(0)));
            answer.send("200 OK", "text/plain", "slow but sure\n")
        }
        ["bytes", length] => {
            let mut left: u64 = length.parse().unwrap_or(0);
            answer.head("200 OK", "application/octet-stream", left, b"")?;
            let chunk = vec![b'.'; 64 * 1024];
            while left > 0 {
                let now = left.min(chunk.len() as u64);
                answer.more(&chunk[..now as usize])?;
                left -= now;
            }
            Ok(())
        }
        ["events", count] => {
            // Server-Sent Events, ten a second; the chunks are HTTP's own (RFC 9112, 7.1).
            answer.more(
                b"HTTP/1.1 200 OK\r\ncontent-type: text/event-stream\r\ntransfer-encoding: chunked\r\n\r\n",
            )?;
            for number in 0..count.parse().unwrap_or(0) {
                let event = format!("data: {number}\n\n");
                answer.more(format!("{:x}\r\n{event}\r\n", event.len()).as_bytes())?;
                std::thread::sleep(Duration::from_millis(100));
            }
            answer.more(b"0\r\n\r\n")
        }
        ["count"] => {
            let length = request.body(|_| Ok(()))?;
            answer.send("200 OK", "text/plain", &format!("{length}\n"))
        }
        _ => answer.send("404 Not Found", "text/plain", "nothing of that name here\n"),
    }
}

pub(crate) fn courier_web(release: Release) {
    println!("courier-web {} starts", release.version);
    let name = own_name();
    run_server(port(), move |request, answer| {
        if request.path == "/ready" {
            return answer.send("200 OK", "text/plain", "ready\n");
        }
        let (free, who) = (get("locker-api", 80, "/lockers/17/compartments"), get("locker-api", 80, "/who"));
        let (status, line) = match (&free, &who) {
            (Ok((200, free)), Ok((200, who))) => ("200 OK", format!("<p>{free}</p><p>answered by {who}</p>")),
            (free, _) => {
                eprintln!("locker-api does not answer: {free:?}");
                ("502 Bad Gateway", "<p>The lockers do not answer at the moment.</p>".to_owned())
            }
        };
        let page = format!(
            "<!doctype html><meta charset=utf-8><title>Larkfield couriers</title>\
             <body style='font:16px/1.5 sans-serif;max-width:40rem;margin:3rem auto'>\
             <h1>Locker 17, Market Square</h1>{line}<p>courier-web {} on {name}</p>",
            release.version
        );
        println!("{} {} {}", request.method, request.path, &status[..3]);
        answer.send(status, "text/html; charset=utf-8", &page)
    });
}

pub(crate) fn label_printer(release: Release) {
    println!("label-printer {} starts", release.version);
    let Ok(printer) = std::env::var("PRINTER") else {
        eprintln!("PRINTER is not set: no printer to send labels to");
        std::process::exit(78);
    };
    if release.fault == "memory" {
        std::thread::spawn(|| grow(1 << 20, Duration::from_millis(120)));
    }
    loop {
        match get("locker-api", 80, "/labels/next") {
            Ok((200, job)) => println!("printed {} on {printer}", job.trim()),
            other => eprintln!("no job from locker-api: {other:?}"),
        }
        std::thread::sleep(Duration::from_secs(2));
    }
}

/// Serves the form of the folder `form` beside the program: `page.html`, with the lines of `questions.txt` in the place of
/// `QUESTIONS`.
pub(crate) fn form_server(release: Release) {
    let beside = std::env::current_exe().map(|program| program.with_file_name("form"));
    let read = |name: &str| beside.as_ref().ok().and_then(|dir| std::fs::read_to_string(dir.join(name)).ok());
    let (Some(page), Some(questions)) = (read("page.html"), read("questions.txt")) else {
        eprintln!("the folder form beside this program has no page.html and questions.txt");
        std::process::exit(66);
    };
    let (page, count) = (filled(&page, &questions), questions.lines().count());
    println!("form-server {} starts with {count} questions", release.version);
    let name = own_name();
    run_server(port(), move |request, answer| match request.path.as_str() {
        "/ready" => answer.send("200 OK", "text/plain", "ready\n"),
        "/answers" if request.method == "POST" => {
            let length = request.body(|_| Ok(()))?;
            println!("answers of {length} bytes came to {name}");
            answer.send("200 OK", "text/html; charset=utf-8", "<!doctype html><p>Thank you.</p>\n")
        }
        "/" => answer.send("200 OK", "text/html; charset=utf-8", &page),
        _ => answer.send("404 Not Found", "text/plain", "nothing of that name here\n"),
    });
}

/// A page with a field for each question.
fn filled(page: &str, questions: &str) -> String {
    let safe = |text: &str| text.replace('&', "&amp;").replace('<', "&lt;").replace('"', "&quot;");
    let field = |(number, question): (usize, &str)| {
        format!("<p><label>{}<br><input name=\"q{number}\"></label></p>\n", safe(question))
    };
    let fields: String = questions.lines().enumerate().map(field).collect();
    page.replace("QUESTIONS", &fields)
}
