//! Names of the layers around a place.

use std::borrow::Cow;

/// A layer of wrapping around the text where something was found, by its name.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Layer(&'static str);

impl Layer {
    /// PHP serialized.
    pub(super) const SERIALIZED: Layer = Layer("serialized");
    /// PHP serialized, with lengths that were repaired.
    pub(super) const REPAIRED: Layer = Layer("serialized, repaired");
    /// JSON string.
    pub(super) const JSON: Layer = Layer("json");
    /// Lengths counted in another charset.
    pub(super) const CHARSET: Layer = Layer("other charset");
    /// Compressed.
    pub(super) const PACKED: Layer = Layer("compressed");

    /// A layer of this name.
    pub(super) const fn named(name: &'static str) -> Self {
        Layer(name)
    }
}

/// Names a nesting, from the outside in.
pub fn nesting(layers: &[Layer]) -> Cow<'static, str> {
    match layers {
        [] => "text".into(),
        [one] => one.0.into(),
        more => more.iter().map(|l| l.0).collect::<Vec<_>>().join(" > ").into(),
    }
}
