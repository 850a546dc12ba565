//! Writes the API description to a file, for validators: `openapi FILE`. The service serves the same under
//! `/openapi.json`.

use std::io;

fn main() -> io::Result<()> {
    let file = std::env::args_os().nth(1).ok_or_else(|| io::Error::other("say which file to write"))?;
    std::fs::write(file, gubernum_server::description())
}
