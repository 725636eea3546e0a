//! Tries, from inside a replica, what a replica must not be able to do, and says of each act what came of it.
//!
//! One line an act: its name, `|`, and what happened. Acts that succeed say `done` and something of what was
//! seen. A list of addresses to try may be given as arguments. With `talk N` it only writes a line every N ms.

mod acts;

fn main() {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    if let [talk, pause] = &arguments[..]
        && talk == "talk"
    {
        talk_on(pause.parse().unwrap_or(100));
    }
    for (name, outcome) in acts::all(&arguments) {
        println!("{name} | {outcome}");
    }
    println!("end of acts");
    // A replica that ends would be started again.
    loop {
        std::thread::sleep(std::time::Duration::from_secs(3600));
    }
}

fn talk_on(pause: u64) -> ! {
    for number in 0u64.. {
        println!("line {number} of a replica that has much to say");
        std::thread::sleep(std::time::Duration::from_millis(pause));
    }
    std::process::exit(0)
}
