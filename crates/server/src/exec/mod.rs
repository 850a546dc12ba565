//! Programs inside containers: terminals, and one-off commands in containers that are created for them. Exec calls themselves are
//! `gubernum_engine`'s.

pub(crate) mod http;
pub(crate) mod one_offs;
pub(crate) mod terminals;
pub(crate) use terminals::Terminals;
