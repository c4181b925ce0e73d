//! JSON schemas of answers. The other crates know this one as `schemars`, which it is with the feature `derive`; without it,
//! the derive writes nothing.
//!
//! The program itself never prints a schema: only the tests and the generator of `docs/schemas` need them. Derived for every
//! build they cost a tenth of its time.

#[cfg(feature = "derive")]
pub use schemars_derived::*;

#[cfg(not(feature = "derive"))]
pub use ninekeys_schema_off::JsonSchema;

/// Implements `JsonSchema` for a type whose JSON its own code writes: the type, then its schema as JSON.
#[cfg(feature = "derive")]
#[macro_export]
macro_rules! schema_of {
    ($of:ident, $schema:tt) => {
        impl $crate::JsonSchema for $of {
            fn schema_name() -> ::std::borrow::Cow<'static, str> {
                stringify!($of).into()
            }

            fn json_schema(_: &mut $crate::SchemaGenerator) -> $crate::Schema {
                $crate::json_schema!($schema)
            }
        }
    };
}

/// Implements nothing: schemas are not derived in this build.
#[cfg(not(feature = "derive"))]
#[macro_export]
macro_rules! schema_of {
    ($of:ident, $schema:tt) => {};
}
