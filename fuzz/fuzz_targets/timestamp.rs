#![no_main]

libfuzzer_sys::fuzz_target!(|data: &[u8]| ninekeys_formats::fuzzing::timestamp(data));
