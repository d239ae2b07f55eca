//! Reading `sites.toml`.

use std::collections::HashMap;
use std::fmt;
use std::ops::Range;

use camino::Utf8Path;
use toml::Spanned;
use toml::de::{DeTable, DeValue};

use super::Site;
use super::options::{Draft, OPTIONS, SiteOption, ValueForm, option};
use super::step::{STEP, read_steps};
use crate::name::HostName;
use crate::source::Excerpt;

/// The person's own record of their sites, in the order of the file.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct SiteList {
    /// The sites, no two of which share a name or an alias.
    pub sites: Vec<Site>,
}

/// The fault of a site list, and its place.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{message}\n{excerpt}")]
pub struct ListError {
    message: String,
    /// The line that is meant.
    pub excerpt: Excerpt,
}

/// A site as read, and the places of its names.
struct ReadSite {
    site: Site,
    names: Vec<Range<usize>>,
}

/// A list with each site found by any of its names, for plans of thousands of sites.
#[derive(Debug)]
pub(crate) struct IndexedList<'l> {
    pub(crate) list: &'l SiteList,
    by_name: HashMap<&'l HostName, &'l Site>,
    /// Whether a site has tenants.
    pub(crate) has_tenants: bool,
}

impl<'l> IndexedList<'l> {
    pub(crate) fn of(list: &'l SiteList) -> Self {
        let mut by_name = HashMap::with_capacity(list.sites.len());
        for site in &list.sites {
            for name in site.names() {
                // The first one has it, as in a search.
                by_name.entry(name).or_insert(site);
            }
        }
        Self { list, by_name, has_tenants: list.sites.iter().any(|site| site.serving.tenants) }
    }

    /// As [`SiteList::owner`].
    pub(crate) fn owner(&self, name: &HostName) -> Option<&'l Site> {
        self.by_name.get(name).copied()
    }

    /// As [`SiteList::site`].
    pub(crate) fn site(&self, name: &HostName) -> Option<&'l Site> {
        let owner = self.owner(name).filter(|owner| owner.name == *name);
        // Another site has the name as an alias.
        owner.or_else(|| self.owner(name).and_then(|_| self.list.site(name)))
    }
}

impl SiteList {
    /// Reads the text of a site list. `home` is the folder that replaces `~/` at the beginning of a path.
    ///
    /// # Errors
    /// A [`ListError`] for text that is no TOML, an unknown key, a wrong value,
    /// or a repeated name, with the line at fault.
    pub fn parse(text: &str, home: Option<&Utf8Path>) -> Result<Self, ListError> {
        let mut list = Self::default();
        let mut spans = Vec::new();
        for site in read_tables(text, &["site"])? {
            let read = read_site(text, &site, home)?;
            list.sites.push(read.site);
            spans.extend(read.names);
        }
        list.without_twins(text, &spans)?;
        Ok(list)
    }

    /// Refuses a repeated name. `spans` has a place for each of the names.
    fn without_twins(&self, text: &str, spans: &[Range<usize>]) -> Result<(), ListError> {
        let mut taken: HashMap<&HostName, &HostName> = HashMap::with_capacity(spans.len());
        let names = self.sites.iter().flat_map(|site| site.names().map(move |name| (name, &site.name)));
        for ((name, site), span) in names.zip(spans) {
            if let Some(other) = taken.insert(name, site) {
                let message = format!("`{name}` already belongs to the site `{other}`");
                return Err(ListError::new(text, span, message));
            }
        }
        Ok(())
    }

    /// The site whose own name this is, aliases aside.
    pub fn site(&self, name: &HostName) -> Option<&Site> {
        self.sites.iter().find(|site| site.name == *name)
    }

    /// The site that answers to `name`, as its name or as an alias.
    pub fn owner(&self, name: &HostName) -> Option<&Site> {
        self.sites.iter().find(|site| site.names().any(|own| own == name))
    }

    /// The site that a request for `name` is answered by: the [owner](Self::owner), or the one that it is a tenant of.
    pub fn answering(&self, name: &HostName) -> Option<&Site> {
        self.owner(name).or_else(|| self.sites.iter().find(|site| site.is_tenant(name)))
    }

    /// The list without the sites that are out of use.
    #[must_use]
    pub fn enabled(self) -> Self {
        Self { sites: self.sites.into_iter().filter(|site| !site.disabled).collect() }
    }

    /// The list with `site` in the place of the site of that name, or at the end.
    pub fn with(&self, site: Site) -> Self {
        let mut sites = self.sites.clone();
        match sites.iter_mut().find(|old| old.name == site.name) {
            Some(old) => *old = site,
            None => sites.push(site),
        }
        Self { sites }
    }

    /// The list with `site` in the place of the site `name`, or at the end.
    pub fn replaced(&self, name: &HostName, site: &Site) -> Self {
        let mut list = if *name == site.name { self.clone() } else { self.without(&site.name) };
        match list.sites.iter_mut().find(|old| old.name == *name) {
            Some(old) => *old = site.clone(),
            None => list.sites.push(site.clone()),
        }
        list
    }

    /// The list without the site of that name.
    pub fn without(&self, name: &HostName) -> Self {
        Self { sites: self.sites.iter().filter(|site| site.name != *name).cloned().collect() }
    }

    /// The list after changes of sites, each as it was and as it is then, one after the other.
    #[must_use]
    pub(crate) fn with_changes<'c>(self, changes: impl Iterator<Item = (Option<&'c Site>, Option<&'c Site>)>) -> Self {
        let mut places: HashMap<HostName, usize> =
            self.sites.iter().enumerate().map(|(place, site)| (site.name.clone(), place)).collect();
        let mut sites: Vec<Option<Site>> = self.sites.into_iter().map(Some).collect();
        for (before, after) in changes {
            let Some(name) = before.or(after).map(|site| &site.name) else { continue };
            let place = places.remove(name);
            let Some(after) = after else {
                if let Some(place) = place {
                    sites[place] = None;
                }
                continue;
            };
            // A site that had the name until now gives way.
            if let Some(other) = places.remove(&after.name) {
                sites[other] = None;
            }
            let place = place.unwrap_or_else(|| {
                sites.push(None);
                sites.len() - 1
            });
            sites[place] = Some(after.clone());
            places.insert(after.name.clone(), place);
        }
        Self { sites: sites.into_iter().flatten().collect() }
    }
}

/// The tables of a text that has nothing but sites.
pub(super) fn read_tables<'t>(text: &'t str, known: &[&str]) -> Result<Vec<Spanned<DeValue<'t>>>, ListError> {
    let document = DeTable::parse(text).map_err(|error| {
        let span = error.span().unwrap_or(0..0);
        ListError::new(text, &span, error.message())
    })?;
    let mut tables = Vec::new();
    for (key, value) in document.into_inner() {
        if known.contains(&key.get_ref().as_ref()) && key.get_ref() != "site" {
            continue;
        }
        if key.get_ref() != "site" {
            let message = format!("unknown field `{}`, expected `site`", key.get_ref());
            return Err(ListError::new(text, &key.span(), message));
        }
        let span = value.span();
        let DeValue::Array(sites) = value.into_inner() else {
            return Err(ListError::new(text, &span, "each site needs its own `[[site]]`"));
        };
        tables.extend(sites);
    }
    Ok(tables)
}

fn read_site(text: &str, value: &Spanned<DeValue<'_>>, home: Option<&Utf8Path>) -> Result<ReadSite, ListError> {
    let DeValue::Table(table) = value.get_ref() else {
        return Err(ListError::new(text, &value.span(), "a site needs `[[site]]` above it"));
    };
    let mut draft = Draft { home: home.map(Utf8Path::to_owned), ..Draft::default() };
    for (key, value) in table {
        if key.get_ref() == STEP {
            read_steps(text, value)?;
            continue;
        }
        let Some(option) = option(key.get_ref()) else {
            let keys: Vec<&str> = OPTIONS.iter().map(|option| option.key).chain([STEP]).collect();
            let message = unknown(key.get_ref(), &keys);
            return Err(ListError::new(text, &key.span(), message));
        };
        read_option(text, option, value, &mut draft)?;
    }
    let at = |key: &str| table.iter().find(|(own, _)| own.get_ref() == key).map(|(_, value)| value);
    let site = draft.finish().map_err(|misfit| {
        let span = at(misfit.key).map_or_else(|| value.span(), Spanned::span);
        ListError::new(text, &span, misfit.message)
    })?;
    let aliases = at("aliases").and_then(|aliases| aliases.get_ref().as_array());
    let aliases = aliases.into_iter().flat_map(|items| items.iter().map(Spanned::span));
    let names = at("name").map(Spanned::span).into_iter().chain(aliases).collect();
    Ok(ReadSite { site, names })
}

/// The message for an unknown key: suggests the nearest key, or lists all of them.
pub(super) fn unknown(key: &str, known: &[&str]) -> String {
    let likeness = |known: &str| similar::TextDiff::from_chars(key, known).ratio();
    let nearest = known.iter().map(|key| (likeness(key), key)).max_by(|a, b| a.0.total_cmp(&b.0));
    match nearest {
        Some((likeness, nearest)) if likeness > 0.7 => format!("unknown field `{key}`: did you mean `{nearest}`?"),
        _ => format!("unknown field `{key}`, expected one of `{}`", known.join("`, `")),
    }
}

/// Reads the value of an option; of an array item by item, so that a wrong one is shown by itself.
pub(super) fn read_option(
    text: &str,
    option: &SiteOption,
    value: &Spanned<DeValue<'_>>,
    draft: &mut Draft,
) -> Result<(), ListError> {
    let wrong = |value: &Spanned<DeValue<'_>>, expected: &str| {
        let what = value.get_ref().type_str();
        ListError::new(text, &value.span(), format!("`{}` is {expected}, and this is of type {what}", option.key))
    };
    match (option.form, value.get_ref()) {
        (ValueForm::Flag, DeValue::Boolean(flag)) => (option.read)(draft, &[if *flag { "true" } else { "false" }])
            .map_err(|message| ListError::new(text, &value.span(), message)),
        (ValueForm::Flag, _) => Err(wrong(value, "`true` or `false`")),
        (ValueForm::Text | ValueForm::Word(_), DeValue::String(word)) => {
            (option.read)(draft, &[word]).map_err(|message| ListError::new(text, &value.span(), message))
        }
        (ValueForm::Text | ValueForm::Word(_), _) => Err(wrong(value, "a string")),
        (ValueForm::Number, DeValue::Integer(number)) => {
            (option.read)(draft, &[number.as_str()]).map_err(|message| ListError::new(text, &value.span(), message))
        }
        (ValueForm::Number, _) => Err(wrong(value, "a number")),
        (ValueForm::Texts | ValueForm::Ports, DeValue::Array(items)) => {
            let mut words = Vec::with_capacity(items.len());
            for item in items {
                words.push(match (option.form, item.get_ref()) {
                    (ValueForm::Texts, DeValue::String(word)) => &**word,
                    (ValueForm::Ports, DeValue::Integer(number)) => number.as_str(),
                    (ValueForm::Texts, _) => return Err(wrong(item, "an array of strings")),
                    _ => return Err(wrong(item, "an array of numbers")),
                });
            }
            (option.read)(draft, &words).map_err(|message| {
                // The first item with which it goes wrong is the one that is meant.
                let is_wrong = |end: &usize| (option.read)(draft, &words[..*end]).is_err();
                let item = (1..=words.len()).find(is_wrong).and_then(|end| items.get(end - 1));
                ListError::new(text, &item.map_or_else(|| value.span(), Spanned::span), message)
            })
        }
        (ValueForm::Texts, _) => Err(wrong(value, "an array of strings")),
        (ValueForm::Ports, _) => Err(wrong(value, "an array of numbers")),
    }
}

impl ListError {
    pub(super) fn new(text: &str, span: &Range<usize>, message: impl fmt::Display) -> Self {
        Self { message: message.to_string(), excerpt: Excerpt::new(text.as_bytes(), span) }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::site::Content;

    fn site() -> impl Strategy<Value = Site> {
        ("[a-e]", "[x-z]").prop_map(|(name, folder)| {
            Site::new(HostName::parse(&format!("{name}.test")).unwrap(), Content::folder(format!("/srv/{folder}")))
        })
    }

    proptest! {
        #[test]
        fn many_changes_are_the_same_as_one_after_the_other(
            changes in proptest::collection::vec((proptest::option::of(site()), proptest::option::of(site())), 0..12),
        ) {
            let at_once = SiteList::default()
                .with_changes(changes.iter().map(|(before, after)| (before.as_ref(), after.as_ref())));
            let in_turn = changes.iter().fold(SiteList::default(), |list, change| match change {
                (before, Some(after)) => list.replaced(&before.as_ref().unwrap_or(after).name, after),
                (Some(before), None) => list.without(&before.name),
                (None, None) => list,
            });
            prop_assert_eq!(at_once, in_turn);
        }
    }
}
