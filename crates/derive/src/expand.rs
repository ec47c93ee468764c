//! What is generated.

use proc_macro2::TokenStream;
use quote::{format_ident, quote};
use syn::spanned::Spanned;
use syn::{
    Data, DataEnum, DeriveInput, Error, Field, Fields, FieldsNamed, GenericArgument, Ident, Meta, Path,
    PathArguments, Result, Token, Type,
};

use crate::attributes::{FieldAttributes, text};

pub(crate) fn keys(input: &DeriveInput) -> Result<TokenStream> {
    match &input.data {
        Data::Struct(data) => match &data.fields {
            Fields::Named(fields) => table(input, fields),
            Fields::Unnamed(_) | Fields::Unit => Err(Error::new(input.span(), "keys need named fields")),
        },
        Data::Enum(data) => tagged(input, data),
        Data::Union(_) => Err(Error::new(input.span(), "a union has no keys")),
    }
}

/// The keys of a struct.
fn table(input: &DeriveInput, fields: &FieldsNamed) -> Result<TokenStream> {
    let name = &input.ident;
    let check = check_function(input)?;
    let mut declared = Vec::new();
    let mut reads = Vec::new();
    let mut filled = Vec::new();
    for field in &fields.named {
        let ident = field.ident.as_ref().expect("a named field");
        let attributes = FieldAttributes::read(&field.attrs)?;
        if attributes.is_skipped {
            filled.push(quote! { #ident: Default::default() });
            continue;
        }
        let index = declared.len();
        if attributes.is_flattened {
            let when = or_none(attributes.when.as_ref());
            let (inner, optional) = unwrapped(&field.ty);
            let stands_alone = optional && attributes.when.is_none();
            declared.push(quote! {
                Field::Inline { fields: <#inner as Keys>::FIELDS, when: #when, is_optional: #stands_alone }
            });
            let read = if optional { format_ident!("inline_option") } else { format_ident!("inline") };
            reads.push(quote! { let #ident = section.#read::<#inner>(&Self::FIELDS[#index]); });
        } else {
            let key = key(ident, field, &attributes)?;
            declared.push(quote! { Field::Key(&#key) });
            reads.push(quote! { let #ident = section.field(&Self::FIELDS[#index]); });
        }
        filled.push(quote! { #ident: #ident? });
    }
    let check = check.map(|function| quote! { #function(section); });
    Ok(quote! {
        const _: () = {
            use crate::config::key::{Field, Keys};
            impl Keys for #name {
                const FIELDS: &'static [Field] = &[#(#declared),*];

                fn read(section: &mut crate::config::decode::Section<'_, '_>) -> Option<Self> {
                    #(#reads)*
                    #check
                    Some(Self { #(#filled),* })
                }
            }
            impl crate::config::decode::KeyValue for #name {
                const SHAPE: crate::config::key::Shape = crate::config::key::Shape::Table { fields: <Self as Keys>::FIELDS };

                fn read(
                    node: &crate::config::tree::DocumentNode,
                    place: &mut crate::config::decode::Place<'_, '_>,
                    _key: &'static crate::config::key::Key,
                ) -> Option<Self> {
                    place.table::<Self>(node)
                }
            }
        };
    })
}

fn key(ident: &Ident, field: &Field, attributes: &FieldAttributes) -> Result<TokenStream> {
    if attributes.help.is_empty() {
        return Err(Error::new(ident.span(), "a key needs a doc comment, which is its help"));
    }
    let ty = &field.ty;
    let name = attributes.rename.clone().unwrap_or_else(|| ident.to_string());
    let (help, about) = (&attributes.help, &attributes.about);
    let range = attributes.range.clone().unwrap_or_else(|| quote! { crate::config::key::Range::None });
    let default =
        attributes.default.clone().unwrap_or_else(|| quote! { crate::config::key::DefaultValue::None });
    let count = or_none(attributes.count.as_ref());
    let when = or_none(attributes.when.as_ref());
    let effective = or_none(attributes.effective.as_ref());
    let choices = or_none(attributes.choices.as_ref());
    let format = attributes.format.as_ref().map_or_else(
        || quote! { None },
        |path: &Path| quote! { Some(&crate::config::decode::formats::#path) },
    );
    let refers = attributes
        .refers
        .as_ref()
        .map_or_else(|| quote! { None }, |kind| quote! { Some(crate::config::object::ObjectKind::#kind) });
    let words = |text: &Option<syn::LitStr>| text.as_ref().map_or_else(String::new, syn::LitStr::value);
    let (expected, example) = (words(&attributes.expected), words(&attributes.example));
    let (label, group) = (words(&attributes.label), words(&attributes.group));
    let (is_needed, is_distinct) = (attributes.is_needed, attributes.is_distinct);
    let (is_basic, has_escapes) = (attributes.is_basic, attributes.has_escapes);
    Ok(quote! {
        crate::config::key::Key {
            name: #name,
            help: #help,
            about: #about,
            shape: <#ty as crate::config::decode::KeyValue>::SHAPE,
            is_optional: <#ty as crate::config::decode::KeyValue>::IS_OPTIONAL && !#is_needed,
            default: #default,
            range: #range,
            count: #count,
            is_distinct: #is_distinct,
            format: #format,
            choices: #choices,
            expected: #expected,
            example: #example,
            refers: #refers,
            when: #when,
            effective: #effective,
            label: #label,
            group: #group,
            is_basic: #is_basic,
            has_escapes: #has_escapes,
        }
    })
}

/// The keys of an enum whose variant is decided by a key.
fn tagged(input: &DeriveInput, data: &DataEnum) -> Result<TokenStream> {
    let name = &input.ident;
    let tag =
        serde_text(input, "tag")?.ok_or_else(|| Error::new(input.span(), "an enum with #[serde(tag)]"))?;
    let attributes = FieldAttributes::read(&input.attrs)?;
    let mut names = Vec::new();
    let mut meanings = Vec::new();
    let mut inline = Vec::new();
    let mut arms = Vec::new();
    for variant in &data.variants {
        let ident = &variant.ident;
        let value = ident.to_string().to_lowercase();
        let (help, _) = crate::attributes::doc_comment(&variant.attrs);
        names.push(value.clone());
        meanings.push(quote! { #value => #help });
        match &variant.fields {
            Fields::Unit => arms.push(quote! { #value => Some(Self::#ident) }),
            Fields::Unnamed(fields) if fields.unnamed.len() == 1 => {
                let inner = &fields.unnamed[0].ty;
                inline.push(quote! {
                    Field::Inline {
                        fields: <#inner as Keys>::FIELDS,
                        when: Some(crate::config::key::KeyCondition { key: #tag, values: &[#value] }),
                        is_optional: false,
                    }
                });
                arms.push(quote! { #value => <#inner as Keys>::read(section).map(Self::#ident) });
            }
            Fields::Unnamed(_) | Fields::Named(_) => {
                return Err(Error::new(variant.span(), "a variant holds one type with keys, or nothing"));
            }
        }
    }
    let (help, about) = (&attributes.help, &attributes.about);
    let label = attributes.label.as_ref().map_or_else(String::new, syn::LitStr::value);
    let example = attributes.example.as_ref().map_or_else(String::new, syn::LitStr::value);
    Ok(quote! {
        const _: () = {
            use crate::config::key::{Field, Keys};
            impl Keys for #name {
                const FIELDS: &'static [Field] = &[
                    Field::Key(&crate::config::key::Key {
                        name: #tag,
                        help: #help,
                        about: #about,
                        shape: crate::config::key::Shape::Choice {
                            names: &[#(#names),*],
                            help: |name| match name { #(#meanings,)* _ => "" },
                        },
                        label: #label,
                        example: #example,
                        is_basic: true,
                        ..crate::config::key::Key::NEEDED
                    }),
                    #(#inline),*
                ];

                fn read(section: &mut crate::config::decode::Section<'_, '_>) -> Option<Self> {
                    match section.tag(&Self::FIELDS[0])? {
                        #(#arms,)*
                        _ => None,
                    }
                }
            }
        };
    })
}

/// The function that `#[keys(check = ...)]` names.
fn check_function(input: &DeriveInput) -> Result<Option<Path>> {
    for attribute in &input.attrs {
        if attribute.path().is_ident("keys") {
            let pair: syn::MetaNameValue = attribute.parse_args()?;
            if let (true, syn::Expr::Path(path)) = (pair.path.is_ident("check"), &pair.value) {
                return Ok(Some(path.path.clone()));
            }
            return Err(Error::new(attribute.span(), "#[keys(check = function)]"));
        }
    }
    Ok(None)
}

/// The text of a `serde` attribute of the type itself.
fn serde_text(input: &DeriveInput, name: &str) -> Result<Option<String>> {
    for attribute in &input.attrs {
        if !attribute.path().is_ident("serde") {
            continue;
        }
        let all =
            attribute.parse_args_with(syn::punctuated::Punctuated::<Meta, Token![,]>::parse_terminated)?;
        for meta in all {
            if let Meta::NameValue(pair) = meta
                && pair.path.is_ident(name)
            {
                return Ok(Some(text(&pair.value)?.value()));
            }
        }
    }
    Ok(None)
}

/// The type inside an `Option`, and whether there is one.
fn unwrapped(ty: &Type) -> (&Type, bool) {
    if let Type::Path(path) = ty
        && let Some(last) = path.path.segments.last()
        && last.ident == "Option"
        && let PathArguments::AngleBracketed(arguments) = &last.arguments
        && let Some(GenericArgument::Type(inner)) = arguments.args.first()
    {
        return (inner, true);
    }
    (ty, false)
}

fn or_none(tokens: Option<&TokenStream>) -> TokenStream {
    tokens.cloned().unwrap_or_else(|| quote! { None })
}
