//! Environment variables in the words of each shell.

use crate::config::escaped;
use crate::system::System;

/// Reader of the lines.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Shell {
    /// A shell of the POSIX family.
    Sh,
    /// fish.
    Fish,
    /// `PowerShell`.
    PowerShell,
    /// A file of `NAME=value` lines that a project keeps next to its code.
    Dotenv,
    /// A Dockerfile.
    Dockerfile,
}

impl Shell {
    /// The line that sets a variable. The value is taken as it is, whatever it holds; line ends,
    /// which no file or name of ours has, would not survive everywhere.
    pub fn set(self, name: &str, value: &str) -> String {
        match self {
            Self::Sh => format!("export {name}={}", single_quoted(value)),
            Self::Fish => format!("set -gx {name} '{}'", value.replace('\\', r"\\").replace('\'', r"\'")),
            Self::PowerShell => format!("$env:{name} = '{}'", value.replace('\'', "''")),
            Self::Dotenv => format!("{name}=\"{}\"", in_quotes(value)),
            Self::Dockerfile => format!("ENV {name}=\"{}\"", in_quotes(value)),
        }
    }

    /// A line that says something to people.
    pub fn comment(self, text: &str) -> String {
        format!("# {text}")
    }
}

/// Within double quotes, where a dollar begins a variable.
fn in_quotes(value: &str) -> String {
    escaped(value, &['"', '\\', '$'])
}

/// A word as the shell of this system takes it for one, typed or in a script. Everything but plain characters is quoted:
/// `shell_words::quote` leaves `!` and braces bare, which bash reads when they are typed.
pub fn word(text: &str) -> String {
    System::HERE.word(text)
}

/// Between single quotes nothing but these means something (POSIX.1-2024, Shell Command Language, section 2.2.2).
pub(crate) fn single_quoted(text: &str) -> String {
    format!("'{}'", text.replace('\'', r"'\''"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_value_means_itself_everywhere() {
        let value = r#"/home/a'b/$HOME "x" \y"#;
        insta::assert_snapshot!(Shell::Sh.set("A", value), @r#"export A='/home/a'\''b/$HOME "x" \y'"#);
        assert_eq!((word("/srv/a_b-c.d"), word("a b'c")), ("/srv/a_b-c.d".into(), r"'a b'\''c'".into()));
        insta::assert_snapshot!(Shell::Fish.set("A", value), @r#"set -gx A '/home/a\'b/$HOME "x" \\y'"#);
        insta::assert_snapshot!(Shell::PowerShell.set("A", value), @r#"$env:A = '/home/a''b/$HOME "x" \y'"#);
        insta::assert_snapshot!(Shell::Dotenv.set("A", value), @r#"A="/home/a'b/\$HOME \"x\" \\y""#);
        insta::assert_snapshot!(Shell::Dockerfile.set("A", value), @r#"ENV A="/home/a'b/\$HOME \"x\" \\y""#);
    }
}
