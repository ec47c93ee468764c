//! The console is embedded from `console/dist`; the folder has to be there even before the console was built.

fn main() {
    let dist = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../console/dist");
    println!("cargo::rerun-if-changed={}", dist.display());
    if let Err(error) = std::fs::create_dir_all(&dist) {
        println!("cargo::error={} can't be made: {error}", dist.display());
    }
}
