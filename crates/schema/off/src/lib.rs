//! A derive that writes nothing, for builds without JSON schemas (see `ninekeys-schema`).

use proc_macro::TokenStream;

/// Writes nothing.
#[proc_macro_derive(JsonSchema, attributes(schemars, serde))]
pub fn nothing(_: TokenStream) -> TokenStream {
    TokenStream::new()
}
