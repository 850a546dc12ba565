//! Writes `docs/compose-attributes.md`, and what the console's editor knows of attributes, from the table by which Compose files are
//! read; see the core's `compose::schema`.

use gubernum_core::compose::schema::table;

fn main() -> std::io::Result<()> {
    std::fs::write("docs/compose-attributes.md", table::page())?;
    std::fs::write("console/src/features/stacks/attributes.json", table::json()?)
}
