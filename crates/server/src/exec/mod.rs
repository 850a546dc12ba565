//! Programs inside containers: terminals, and one-off commands in containers that are created for them. Exec calls themselves are
//! `gubernum_engine`'s.

mod context;
mod error;
pub(crate) mod http;
pub(crate) mod one_offs;
pub(crate) mod terminals;
pub(crate) use context::{ExecContext, start};
pub(crate) use error::TerminalError;
pub(crate) use one_offs::{
    LABEL as RUN_ONCE_LABEL, MOST as MOST_ONE_OFFS, MOST_SECONDS, NAME as RUN_ONCE_NAME,
};
pub(crate) use terminals::{COLUMNS as TERMINAL_COLUMNS, ROWS as TERMINAL_ROWS, Terminals};
