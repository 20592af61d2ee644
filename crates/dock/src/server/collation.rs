//! The order of texts in a language (public reference of collations; the Unicode Collation Algorithm, UTS 10).

use std::borrow::Cow;

use icu_collator::options::{AlternateHandling, CaseLevel, CollatorOptions, Strength};
use icu_collator::preferences::{CollationCaseFirst, CollationNumericOrdering};
use icu_collator::{Collator, CollatorBorrowed, CollatorPreferences};
use icu_locale_core::Locale;
use idle_tide_core::document::{Datum, Document};

use super::Failed;

/// How texts are compared.
pub struct Collation(CollatorBorrowed<'static>);

impl std::fmt::Debug for Collation {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Collation")
    }
}

fn bad(words: impl Into<String>) -> Failed {
    Failed::new(2, words)
}

impl Collation {
    /// What a command asks for; nothing for the locale `simple`, which compares bytes.
    ///
    /// # Errors
    /// For a locale or an option that is none.
    pub fn new(wanted: &Document) -> Result<Option<Self>, Failed> {
        let locale = wanted
            .get("locale")
            .and_then(Datum::as_text)
            .ok_or_else(|| {
                Failed::new(
                    40414,
                    "BSON field 'collation.locale' is missing but a required field",
                )
            })?;
        if locale == "simple" {
            return Ok(None);
        }
        let read: Locale = locale
            .replace('_', "-")
            .parse()
            .map_err(|_| bad(format!("Field 'locale' is invalid in: {locale}")))?;
        let mut preferences = CollatorPreferences::from(&read);
        let mut options = CollatorOptions::default();
        options.strength = Some(Strength::Tertiary);
        for (name, value) in &wanted.fields {
            let yes = value == &Datum::Boolean(true);
            match (name.as_str(), value.as_text()) {
                ("locale" | "normalization" | "version", _) => {}
                ("strength", _) => {
                    options.strength = Some(match value.as_i64() {
                        Some(1) => Strength::Primary,
                        Some(2) => Strength::Secondary,
                        Some(3) => Strength::Tertiary,
                        Some(4) => Strength::Quaternary,
                        Some(5) => Strength::Identical,
                        _ => return Err(bad("Field 'strength' must be an integer 1 through 5")),
                    });
                }
                ("caseLevel", _) => {
                    options.case_level = Some(if yes { CaseLevel::On } else { CaseLevel::Off });
                }
                ("numericOrdering", _) => {
                    preferences.numeric_ordering = yes.then_some(CollationNumericOrdering::True);
                }
                ("caseFirst", Some("upper")) => {
                    preferences.case_first = Some(CollationCaseFirst::Upper)
                }
                ("caseFirst", Some("lower")) => {
                    preferences.case_first = Some(CollationCaseFirst::Lower)
                }
                ("caseFirst", Some("off")) => {}
                ("alternate", Some("shifted")) => {
                    options.alternate_handling = Some(AlternateHandling::Shifted);
                }
                ("alternate", Some("non-ignorable")) => {}
                ("backwards", _) if !yes => {}
                ("maxVariable", Some("punct")) => {}
                _ => {
                    return Err(bad(format!(
                        "the practice server knows no such collation: {name}"
                    )));
                }
            }
        }
        Collator::try_new(preferences, options)
            .map(|found| Some(Collation(found)))
            .map_err(|_| bad(format!("Field 'locale' is invalid in: {locale}")))
    }

    /// A value in whose place bytes can be compared: each text in it is its sort key.
    pub fn folded<'a>(&self, value: &'a Datum) -> Cow<'a, Datum> {
        match value {
            Datum::Text(text) => {
                let mut key = Vec::new();
                let _ = self.0.write_sort_key_to(text, &mut key);
                // Bytes as the first 256 characters keep their order.
                Cow::Owned(key.into_iter().map(char::from).collect::<String>().into())
            }
            Datum::List(list) => Cow::Owned(Datum::List(
                list.iter().map(|v| self.folded(v).into_owned()).collect(),
            )),
            Datum::Object(o) => {
                let fields = o
                    .fields
                    .iter()
                    .map(|(name, v)| (name.clone(), self.folded(v).into_owned()));
                Cow::Owned(
                    Document {
                        fields: fields.collect(),
                    }
                    .into(),
                )
            }
            other => Cow::Borrowed(other),
        }
    }
}
