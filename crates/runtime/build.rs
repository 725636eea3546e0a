//! Builds the keeper, which this crate carries.

fn main() {
    small_program::embed("mainyard-keeper", "mainyard-keeper", &["crates/keeper"], "KEEPER");
}
