// The Marlock link for the tests of the library crates, which read no files by themselves; brought in with `#[path]`.

/// What comes of `examples/marlock/marlock.ember` and the files that it imports.
pub fn checked() -> emberwort_model::Checked {
    let folder = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../examples/marlock");
    let read = |name: &str| std::fs::read_to_string(folder.join(name)).map_err(|error| error.to_string());
    let source = |name: &str, text: String| emberwort_model::Source::new(name, text);
    let root = source("marlock.ember", read("marlock.ember").unwrap());
    emberwort_model::check_with(root, &mut |_, path| read(path).map(|text| source(path, text)))
}
