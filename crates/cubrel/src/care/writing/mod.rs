//! The text of a model's file while somebody writes it: what an editor asks.
//!
//! * [`text`]: a text, and what is wrong with it
//! * [`literals`]: the quotes and escapes around a formula in the file
//! * [`offers`]: what can be written at a place
//! * [`named`]: what stands at a place, where that is defined and used, and giving it another name
//! * [`outline`]: what the text defines
//!
//! A text need not be right, and mostly is not. What is asked of it is answered by what can be read of it, and by the last text
//! before it that made a model. Nothing is loaded and nothing is worked out: all of it is done between two keystrokes.

mod literals;
mod named;
mod offers;
mod outline;
mod text;

pub use named::NamedPart;
pub use outline::OutlineEntry;
pub use text::ModelText;
