//! Writes `docs/compose-attributes.md`, and the attribute data of the console's editor, from the table in
//! `compose::schema`.

use gubernum_core::compose::schema::table;

fn main() -> std::io::Result<()> {
    std::fs::write("docs/compose-attributes.md", table::page())?;
    std::fs::write("console/src/features/stacks/attributes.json", table::json()?)
}
