//! Builds the probe, which this crate carries.

fn main() {
    small_program::embed("probe", "probe", &["crates/probe"], "PROBE");
}
