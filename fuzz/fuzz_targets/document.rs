//! A document that is accepted is accepted again as it is written, in both formats, and is the same then.
#![no_main]

use merismos_core::config::{DocumentFormat, load};

libfuzzer_sys::fuzz_target!(|data: &[u8]| {
    let Ok(text) = std::str::from_utf8(data) else { return };
    for format in [DocumentFormat::Toml, DocumentFormat::Json] {
        let Ok(checked) = load(text, format) else { continue };
        let document = checked.document();
        for (written, format) in [(document.to_toml(), DocumentFormat::Toml), (document.to_json(), DocumentFormat::Json)] {
            let again = load(&written, format).unwrap_or_else(|problems| panic!("{problems:?}\n{written}"));
            assert_eq!(again.document(), document);
        }
    }
});
