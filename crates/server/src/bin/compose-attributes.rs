//! Writes `docs/compose-attributes.md` from the table by which Compose files are read; see the core's `compose::schema`.

fn main() -> std::io::Result<()> {
    let path = std::env::args().nth(1).unwrap_or_else(|| "docs/compose-attributes.md".to_owned());
    std::fs::write(path, gubernum_core::compose::schema::table::page())
}
