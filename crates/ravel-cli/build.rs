//! The demo site is part of the binary: building it again when a file of it changes.

fn main() {
    println!("cargo::rerun-if-changed=../../demo/lantern-ferries");
}
