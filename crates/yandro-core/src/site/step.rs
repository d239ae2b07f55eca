//! Commands that run in a project's folder once its sites are mapped: `[[site.step]]` in the site list or a project
//! file, `[[step]]` in a project file.

use toml::Spanned;
use toml::de::{DeTable, DeValue};

use super::list::{ListError, read_tables, unknown};
use crate::name::HostName;
use crate::tables;

/// The longest time that a step may have, in minutes.
const LONGEST: i64 = 24 * 60;
/// The time of a step that names none, in minutes.
const USUAL: u16 = 10;

/// A command of a site.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SiteStep {
    /// The program and its arguments; with a shell one text for that.
    pub words: Vec<String>,
    /// Whether a shell reads it.
    pub shell: bool,
    /// After how many minutes it is ended.
    pub minutes: u16,
}

impl SiteStep {
    /// The command as it is typed.
    pub fn typed(&self) -> String {
        if self.shell { self.words.join(" ") } else { shell_words::join(&self.words) }
    }
}

/// The steps of each site of a list or a project file, in order. Those at the top of a project file are the first site's,
/// and come first.
///
/// # Errors
/// A [`ListError`] with the line at fault.
pub fn site_steps(text: &str) -> Result<Vec<(HostName, Vec<SiteStep>)>, ListError> {
    let mut found = Vec::new();
    for site in read_tables(text, &["site", STEP])? {
        let DeValue::Table(table) = site.get_ref() else { continue };
        let name = tables::text_of(table, "name").and_then(|name| HostName::parse(name).ok());
        let steps = table.iter().find(|(key, _)| key.get_ref() == STEP).map(|(_, steps)| read_steps(text, steps));
        if let Some(name) = name {
            found.push((name, steps.transpose()?.unwrap_or_default()));
        }
    }
    let document = DeTable::parse(text).map(Spanned::into_inner).unwrap_or_default();
    if let Some((_, steps)) = document.iter().find(|(key, _)| key.get_ref() == STEP) {
        let steps = read_steps(text, steps)?;
        let Some((_, first)) = found.first_mut() else {
            return Err(ListError::new(text, &(0..0), "a `[[step]]` needs a `[[site]]`"));
        };
        first.splice(0..0, steps);
    }
    Ok(found)
}

/// The key of the steps.
pub(super) const STEP: &str = "step";
const KEYS: [&str; 3] = ["run", "shell", "minutes"];

/// Reads the steps of a table.
pub(super) fn read_steps(text: &str, value: &Spanned<DeValue<'_>>) -> Result<Vec<SiteStep>, ListError> {
    let wrong = || ListError::new(text, &value.span(), "each step needs its own `[[site.step]]`");
    let steps = value.get_ref().as_array().ok_or_else(wrong)?;
    steps.iter().map(|step| read_step(text, step)).collect()
}

fn read_step(text: &str, step: &Spanned<DeValue<'_>>) -> Result<SiteStep, ListError> {
    let wrong = |span: core::ops::Range<usize>, message: &str| ListError::new(text, &span, message);
    let table =
        step.get_ref().as_table().ok_or_else(|| wrong(step.span(), "each step needs its own `[[site.step]]`"))?;
    let mut read = SiteStep { words: Vec::new(), shell: false, minutes: USUAL };
    let mut run = None;
    for (key, value) in table {
        let (at, value_of) = (value.span(), value.get_ref());
        match key.get_ref().as_ref() {
            "run" => run = Some(value),
            "shell" => {
                let message = "`shell` is `true` or `false`";
                read.shell = value_of.as_bool().ok_or_else(|| wrong(at, message))?;
            }
            "minutes" => {
                let number = value_of.as_integer().and_then(|number| number.to_string().parse::<i64>().ok());
                let number = number.filter(|number| (1..=LONGEST).contains(number));
                let number = number.and_then(|number| u16::try_from(number).ok());
                read.minutes = number.ok_or_else(|| wrong(at, "`minutes` is a number from 1 to 1440"))?;
            }
            other => return Err(wrong(key.span(), &unknown(other, &KEYS))),
        }
    }
    let run = run.ok_or_else(|| wrong(step.span(), "a step needs `run`, such as `run = \"composer install\"`"))?;
    let message = "`run` is a command, such as \"composer install\", or its words: [\"composer\", \"install\"]";
    let no_command = || wrong(run.span(), message);
    read.words = match run.get_ref() {
        DeValue::String(command) if read.shell => vec![command.to_string()],
        DeValue::String(command) => shell_words::split(command).map_err(|_| no_command())?,
        DeValue::Array(words) if !read.shell => {
            let words = words.iter().map(|word| word.get_ref().as_str().map(ToOwned::to_owned));
            words.collect::<Option<_>>().ok_or_else(no_command)?
        }
        _ => return Err(no_command()),
    };
    let has_program = read.words.first().is_some_and(|program| !program.trim().is_empty());
    if has_program { Ok(read) } else { Err(no_command()) }
}

#[cfg(test)]
mod tests {
    use super::super::{Content, Site, project_sites, set_site};
    use super::super::{SiteList, edit::remove_sites};
    use super::*;

    const LIST: &str = "[[site]]\nname = \"saltmarsh.test\"\nfolder = \"/srv/saltmarsh\"\n\n[[site.step]]\nrun = \"composer install --no-dev\"\n\n  [[site.step]] # the tables\n  run = \"echo $SITE_URL > url\"\n  shell = true\n  minutes = 2\n\n# the handbook\n[[site]]\nname = \"depot.test\"\nfolder = \"/srv/depot\"\n";

    #[test]
    fn steps_belong_to_their_site_and_go_with_it() {
        let steps = site_steps(LIST).unwrap();
        let typed: Vec<String> = steps[0].1.iter().map(SiteStep::typed).collect();
        assert_eq!(typed, ["composer install --no-dev", "echo $SITE_URL > url"]);
        assert_eq!((steps[0].1[0].words.len(), steps[0].1[1].minutes), (3, 2));
        assert_eq!(steps[1].1, []);
        let list = SiteList::parse(LIST, None).unwrap();
        assert_eq!(list.sites.len(), 2);
        // A new key stands before the steps; the site goes with them.
        let mut changed = list.sites[0].clone();
        changed.aliases.push(HostName::parse("www.saltmarsh.test").unwrap());
        let text = set_site(LIST, &changed, None);
        assert!(text.contains("saltmarsh\"\naliases = [\"www.saltmarsh.test\"]\n\n[[site.step]]"), "{text}");
        assert_eq!(SiteList::parse(&text, None).unwrap().sites[0], changed);
        assert_eq!(site_steps(&text).unwrap(), steps);
        let rest = remove_sites(LIST, &[&changed.name]);
        assert_eq!(rest, "\n# the handbook\n[[site]]\nname = \"depot.test\"\nfolder = \"/srv/depot\"\n");
        let longer = set_site(LIST, &Site::new(HostName::parse("pier.test").unwrap(), Content::folder("/srv/p")), None);
        assert_eq!(site_steps(&longer).unwrap()[0], steps[0]);
    }

    #[test]
    fn a_project_has_steps_of_its_own() {
        let text =
            "[[site]]\nname = \"a.test\"\n[[site.step]]\nrun = [\"npm\", \"ci\"]\n\n[[step]]\nrun = \"make it\"\n";
        assert_eq!(project_sites(text, "/srv/a".into()).unwrap().len(), 1);
        let typed: Vec<String> = site_steps(text).unwrap()[0].1.iter().map(SiteStep::typed).collect();
        assert_eq!(typed, ["make it", "npm ci"]);
        for (step, said) in [
            ("run = \"\"", "`run` is a command"),
            ("run = 'a \"b'", "`run` is a command"),
            ("run = [\"a\"]\nshell = true", "`run` is a command"),
            ("shell = true", "a step needs `run`"),
            ("run = \"a\"\nminutes = 0", "`minutes` is a number from 1 to 1440"),
            ("run = \"a\"\nshel = true", "did you mean `shell`"),
        ] {
            let text = format!("[[site]]\nname = \"a.test\"\nfolder = \"/a\"\n[[site.step]]\n{step}\n");
            for error in [SiteList::parse(&text, None).unwrap_err(), site_steps(&text).unwrap_err()] {
                assert!(error.to_string().contains(said), "{error}");
            }
        }
    }
}
