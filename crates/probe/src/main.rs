//! Tries, from inside a replica, what a replica must not be able to do, and says of each act what came of it.
//!
//! One line an act: its name, `|`, and what happened. Acts that succeed say `done` and something of what was
//! seen. A list of addresses to try may be given as arguments. With `talk N` it only writes a line every N ms, with
//! `flood` as many lines as it can, with `calls N` it tries every system call below a number, with `buffers` it
//! fills connections that nobody reads, with `hoard` it takes terminals and files without end, with `fill` it fills its disk, and with `escape` it
//! writes what a terminal would take for commands.

mod escape_attempts;
mod hoard;
mod kernel_buffers;
mod syscalls;

fn main() {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    if let [talk, pause] = &arguments[..]
        && talk == "talk"
    {
        talk_on(pause.parse().unwrap_or(100));
    }
    match arguments.first().map(String::as_str) {
        Some("flood") => flood(),
        Some("calls") => syscalls::every(arguments.get(1).and_then(|most| most.parse().ok()).unwrap_or(1024)),
        Some("buffers") => match kernel_buffers::filled() {
            Ok(bytes) => println!("buffered | {} MiB", bytes >> 20),
            Err(error) => println!("buffered | {error}"),
        },
        Some("hoard") => {
            println!("terminals | {}", hoard::terminals());
            println!("files | {}", hoard::files());
        }
        Some("fill") => println!("filled | {}", hoard::fill("/var/cache/filled")),
        Some("escape") => println!("\x1b]52;c;aGVsbG8=\x07\x1b[2J\x1b[Hone\rtwo \u{9b}31m"),
        _ => {}
    }
    if matches!(
        arguments.first().map(String::as_str),
        Some("buffers" | "calls" | "escape" | "fill" | "hoard")
    ) {
        println!("end of acts");
        rest();
    }
    for (name, outcome) in escape_attempts::all(&arguments) {
        println!("{name} | {outcome}");
    }
    println!("end of acts");
    rest()
}

/// A replica that ends would be started again.
fn rest() -> ! {
    loop {
        std::thread::sleep(std::time::Duration::from_secs(3600));
    }
}

fn flood() -> ! {
    use std::io::Write as _;
    let line = "a line of a replica that writes as much as it can, and more than anybody reads\n".repeat(500);
    let mut out = std::io::stdout().lock();
    while out.write_all(line.as_bytes()).is_ok() {}
    std::process::exit(0)
}

fn talk_on(pause: u64) -> ! {
    for number in 0u64.. {
        println!("line {number} of a replica that has much to say");
        std::thread::sleep(std::time::Duration::from_millis(pause));
    }
    std::process::exit(0)
}
