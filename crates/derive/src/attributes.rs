//! What attributes say of a field.

use proc_macro2::TokenStream;
use quote::quote;
use syn::punctuated::Punctuated;
use syn::spanned::Spanned;
use syn::{Attribute, Error, Expr, ExprLit, Ident, Lit, LitStr, Meta, Path, Result, Token};

/// The attributes of a field, as far as they concern its key.
#[derive(Default)]
pub(crate) struct FieldAttributes {
    /// The key's name where it is not the field's.
    pub(crate) rename: Option<String>,
    /// The keys of the field's type are keys of the same table.
    pub(crate) is_flattened: bool,
    /// The field is no key.
    pub(crate) is_skipped: bool,
    /// The first paragraph of the doc comment, and the others.
    pub(crate) help: String,
    pub(crate) about: String,
    pub(crate) range: Option<TokenStream>,
    pub(crate) count: Option<TokenStream>,
    pub(crate) default: Option<TokenStream>,
    pub(crate) choices: Option<TokenStream>,
    pub(crate) when: Option<TokenStream>,
    pub(crate) effective: Option<TokenStream>,
    pub(crate) format: Option<Path>,
    pub(crate) refers: Option<Ident>,
    pub(crate) expected: Option<LitStr>,
    pub(crate) example: Option<LitStr>,
    pub(crate) label: Option<LitStr>,
    pub(crate) group: Option<LitStr>,
    pub(crate) is_needed: bool,
    pub(crate) is_distinct: bool,
    pub(crate) is_basic: bool,
    pub(crate) has_escapes: bool,
}

impl FieldAttributes {
    pub(crate) fn read(attributes: &[Attribute]) -> Result<Self> {
        let mut read = Self::default();
        let (help, about) = doc_comment(attributes);
        (read.help, read.about) = (help, about);
        for attribute in attributes {
            if attribute.path().is_ident("serde") {
                read.serde(attribute)?;
            } else if attribute.path().is_ident("key") {
                read.key(attribute)?;
            }
        }
        Ok(read)
    }

    fn serde(&mut self, attribute: &Attribute) -> Result<()> {
        for meta in attribute.parse_args_with(Punctuated::<Meta, Token![,]>::parse_terminated)? {
            match &meta {
                Meta::Path(path) if path.is_ident("flatten") => self.is_flattened = true,
                Meta::Path(path) if path.is_ident("skip") => self.is_skipped = true,
                Meta::NameValue(pair) if pair.path.is_ident("rename") => {
                    self.rename = Some(text(&pair.value)?.value());
                }
                _ => {}
            }
        }
        Ok(())
    }

    fn key(&mut self, attribute: &Attribute) -> Result<()> {
        for meta in attribute.parse_args_with(Punctuated::<Meta, Token![,]>::parse_terminated)? {
            let name = meta.path().require_ident()?.to_string();
            match (name.as_str(), &meta) {
                ("needed", Meta::Path(_)) => self.is_needed = true,
                ("distinct", Meta::Path(_)) => self.is_distinct = true,
                ("basic", Meta::Path(_)) => self.is_basic = true,
                ("escapes", Meta::Path(_)) => self.has_escapes = true,
                ("range", Meta::NameValue(pair)) => self.range = Some(range(&pair.value)?),
                ("count", Meta::NameValue(pair)) => self.count = Some(bounds(&pair.value)?),
                ("default", Meta::NameValue(pair)) => {
                    let value = text(&pair.value)?;
                    self.default = Some(quote! { crate::config::key::DefaultValue::Value(#value) });
                }
                ("without", Meta::NameValue(pair)) => {
                    let words = text(&pair.value)?;
                    self.default = Some(quote! { crate::config::key::DefaultValue::Described(#words) });
                }
                ("default", Meta::List(list)) => {
                    let (key, values) = by_key(list)?;
                    self.default = Some(
                        quote! { crate::config::key::DefaultValue::ByKey { key: #key, values: &[#values] } },
                    );
                }
                ("choices", Meta::List(list)) => {
                    let (key, values) = by_key(list)?;
                    self.choices = Some(
                        quote! { Some(crate::config::key::ChoicesByKey { key: #key, names: &[#values] }) },
                    );
                }
                ("when", Meta::List(list)) => self.when = Some(condition(list)?),
                ("effective", Meta::List(list)) => self.effective = Some(condition(list)?),
                ("format", Meta::NameValue(pair)) => match &pair.value {
                    Expr::Path(path) => self.format = Some(path.path.clone()),
                    other => return Err(Error::new(other.span(), "the name of a format")),
                },
                ("refers", Meta::NameValue(pair)) => match &pair.value {
                    Expr::Path(path) => self.refers = Some(path.path.require_ident()?.clone()),
                    other => return Err(Error::new(other.span(), "the name of a kind of object")),
                },
                ("expected", Meta::NameValue(pair)) => self.expected = Some(text(&pair.value)?),
                ("example", Meta::NameValue(pair)) => self.example = Some(text(&pair.value)?),
                ("label", Meta::NameValue(pair)) => self.label = Some(text(&pair.value)?),
                ("group", Meta::NameValue(pair)) => self.group = Some(text(&pair.value)?),
                _ => return Err(Error::new(meta.span(), "no attribute of a key")),
            }
        }
        Ok(())
    }
}

/// The first paragraph of a doc comment and the rest of it, each paragraph as one line.
pub(crate) fn doc_comment(attributes: &[Attribute]) -> (String, String) {
    let lines =
        attributes.iter().filter(|attribute| attribute.path().is_ident("doc")).filter_map(|attribute| {
            let Meta::NameValue(pair) = &attribute.meta else { return None };
            text(&pair.value).ok().map(|line| line.value().trim().to_owned())
        });
    let mut paragraphs = vec![String::new()];
    for line in lines {
        let last = paragraphs.last_mut().expect("there is one from the start");
        if line.is_empty() {
            paragraphs.push(String::new());
        } else if last.is_empty() {
            *last = line;
        } else {
            *last += " ";
            *last += &line;
        }
    }
    let mut paragraphs = paragraphs.into_iter().filter(|paragraph| !paragraph.is_empty());
    let help = paragraphs.next().unwrap_or_default();
    (help, paragraphs.collect::<Vec<_>>().join("\n"))
}

pub(crate) fn text(value: &Expr) -> Result<LitStr> {
    match value {
        Expr::Lit(ExprLit { lit: Lit::Str(text), .. }) => Ok(text.clone()),
        other => Err(Error::new(other.span(), "a text in quotes")),
    }
}

/// `1..=100` or `"1s".."1h"` as a `Range`.
fn range(value: &Expr) -> Result<TokenStream> {
    let Expr::Range(range) = value else { return Err(Error::new(value.span(), "a range such as 1..=100")) };
    let (Some(least), Some(most)) = (&range.start, &range.end) else {
        return Err(Error::new(value.span(), "a range with both of its ends"));
    };
    Ok(match (text(least), text(most)) {
        (Ok(least), Ok(most)) => quote! { crate::config::key::Range::Texts { least: #least, most: #most } },
        _ => quote! { crate::config::key::Range::Numbers { least: #least, most: #most } },
    })
}

/// `1..=8` as an optional pair.
fn bounds(value: &Expr) -> Result<TokenStream> {
    let Expr::Range(range) = value else { return Err(Error::new(value.span(), "a range such as 1..=8")) };
    let (Some(least), Some(most)) = (&range.start, &range.end) else {
        return Err(Error::new(value.span(), "a range with both of its ends"));
    };
    Ok(quote! { Some(crate::config::key::ItemCount { least: #least, most: #most }) })
}

/// `when(protocol = "http tcp")` as an optional condition.
fn condition(list: &syn::MetaList) -> Result<TokenStream> {
    let pair: syn::MetaNameValue = list.parse_args()?;
    let key = pair.path.require_ident()?.to_string();
    let values = words(&text(&pair.value)?);
    Ok(quote! { Some(crate::config::key::KeyCondition { key: #key, values: &[#(#values),*] }) })
}

/// `default(protocol(http = "60s", tcp = "10m"))` as the key's name and pairs of its values with texts or lists of texts.
fn by_key(list: &syn::MetaList) -> Result<(String, TokenStream)> {
    let inner: syn::MetaList = list.parse_args()?;
    let key = inner.path.require_ident()?.to_string();
    let is_list = list.path.is_ident("choices");
    let pairs = inner.parse_args_with(Punctuated::<syn::MetaNameValue, Token![,]>::parse_terminated)?;
    let mut values = TokenStream::new();
    for pair in pairs {
        let (value, of) = (pair.path.require_ident()?.to_string(), text(&pair.value)?);
        let words = words(&of);
        values.extend(if is_list {
            quote! { (#value, &[#(#words),*]), }
        } else {
            quote! { (#value, #of), }
        });
    }
    Ok((key, values))
}

fn words(text: &LitStr) -> Vec<String> {
    text.value().split_whitespace().map(str::to_owned).collect()
}
