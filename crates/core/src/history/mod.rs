//! The arithmetic of usage history: values as short codes, chunks of them in few bits, coarser steps with minimum,
//! mean and maximum, and answers at the resolution of a screen.
//!
//! [`code`] says how a value is kept, [`chunk`] how a run of them is packed, [`series`] how they are
//! made coarser and asked for. Where the chunks lie is the store's business.

pub mod chunk;
pub mod code;
pub mod series;

pub use chunk::{Chunk, DamagedChunk};
pub use code::Code;
pub use series::{Bucket, Level, Point, Row};
