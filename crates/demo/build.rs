//! Builds the demo's program, which this crate carries.

fn main() {
    small_program::embed("larkfield", "larkfield", &["crates/larkfield"], "LARKFIELD");
}
