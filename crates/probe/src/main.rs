//! Tries, from inside a replica, what a replica must not be able to do, and says of each act what came of it.
//!
//! One line an act: its name, `|`, and what happened. Acts that succeed say `done` and something of what was
//! seen. A list of addresses to try may be given as arguments.

mod acts;

fn main() {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    for (name, outcome) in acts::all(&arguments) {
        println!("{name} | {outcome}");
    }
    println!("end of acts");
    // A replica that ends would be started again.
    loop {
        std::thread::sleep(std::time::Duration::from_secs(3600));
    }
}
