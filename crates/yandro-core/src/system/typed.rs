//! Commands and words for the people of each system: what they type, and what they call things.

use camino::Utf8Path;

use super::System;
use crate::shell::single_quoted;

impl System {
    /// The system that this program was built for: whose shell its messages are pasted into, whatever tree it works on.
    // The one question of its kind outside `os` of yandro-machine: it is about what people type and read,
    // and the core's messages need it.
    // Their tests read those of Linux, wherever they run.
    pub const HERE: Self = if cfg!(all(windows, not(test))) {
        Self::Windows
    } else if cfg!(all(target_os = "macos", not(test))) {
        Self::MacOs
    } else {
        Self::Linux
    };

    /// The account that may change everything.
    pub fn administrator(self) -> &'static str {
        if self == Self::Windows { "an administrator" } else { "root" }
    }

    /// The beginning of a hint that ends with the command to run.
    pub fn by_those_who_may(self) -> &'static str {
        if self == Self::Windows {
            "run the command as an administrator"
        } else {
            "run the command as root, or as a user who may use sudo"
        }
    }

    /// A word as the shell takes it for one, typed or in a script. Everything but plain characters is quoted.
    pub fn word(self, text: &str) -> String {
        let plain: &[u8] = if self == Self::Windows { b"/\\._-+:=" } else { b"/._-+:@=," };
        let is_plain =
            !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_alphanumeric() || plain.contains(&byte));
        match self {
            _ if is_plain => text.to_owned(),
            Self::Windows => format!("'{}'", text.replace('\'', "''")),
            Self::Linux | Self::MacOs => single_quoted(text),
        }
    }

    /// A command with an administrator's rights.
    pub fn with_all_rights(self, command: &str) -> String {
        if self == Self::Windows {
            format!("{command} (in a PowerShell that was opened as administrator)")
        } else {
            format!("sudo {command}")
        }
    }

    /// Runs `next` after `first` succeeded.
    pub fn then(self, first: &str, next: &str) -> String {
        // Its first versions don't know `&&`.
        if self == Self::Windows { format!("{first}; if ($?) {{ {next} }}") } else { format!("{first} && {next}") }
    }

    /// Ends a process.
    pub fn end_process(self, pid: u32, is_anothers: bool) -> String {
        match (self, is_anothers) {
            (Self::Windows, false) => format!("Stop-Process -Id {pid}"),
            (Self::Windows, true) => self.with_all_rights(&format!("Stop-Process -Id {pid}")),
            (_, true) => format!("sudo kill {pid}"),
            (_, false) => format!("kill {pid}"),
        }
    }

    /// Opens a file at a line.
    pub fn edit(self, file: &str, line: usize) -> String {
        if self == Self::Windows {
            // It knows no lines.
            format!("notepad {}", self.word(file))
        } else {
            format!("${{EDITOR:-vi}} +{line} {}", self.word(file))
        }
    }

    /// Makes a folder, and those above it.
    pub fn make_folder(self, folder: &str) -> String {
        let verb = if self == Self::Windows { "mkdir" } else { "mkdir -p" };
        format!("{verb} {}", self.word(folder))
    }

    /// Removes a file.
    pub fn remove(self, file: &str) -> String {
        let verb = if self == Self::Windows { "del" } else { "rm" };
        format!("{verb} {}", self.word(file))
    }

    /// Adds names to those that no proxy is asked for.
    pub fn no_proxy(self, names: &str) -> String {
        if self == Self::Windows {
            format!("$env:no_proxy = \"$env:no_proxy,{names}\"")
        } else {
            format!("export no_proxy=\"$no_proxy,{names}\"")
        }
    }

    /// Has the clock follow the network's.
    pub fn set_clock(self) -> String {
        match self {
            Self::Linux => "sudo timedatectl set-ntp true".to_owned(),
            Self::MacOs => "sudo sntp -sS time.apple.com".to_owned(),
            Self::Windows => self.with_all_rights("w32tm /resync"),
        }
    }

    /// How the web servers are installed.
    pub fn install_servers(self) -> &'static str {
        match self {
            Self::Linux => "install Apache httpd (`apt install apache2`) or nginx (`apt install nginx-light`)",
            Self::MacOs => "install Apache httpd (`brew install httpd`) or nginx (`brew install nginx`)",
            Self::Windows => {
                "unpack nginx as C:\\nginx or Apache httpd as C:\\Apache24, or name one in another folder (`yandro servers add NAME --config FILE`)"
            }
        }
    }

    /// Lets every user read the hosts file.
    pub fn make_hosts_readable(self, file: &Utf8Path) -> String {
        if self == Self::Windows {
            self.with_all_rights(&format!("icacls {} /grant '*S-1-5-32-545:(R)'", self.word(file.as_str())))
        } else {
            format!("sudo chmod 644 {file}")
        }
    }

    /// Writes a hosts file that is in UTF-16 in an encoding that resolvers read.
    pub fn convert_hosts(self, file: &Utf8Path) -> String {
        if self == Self::Windows {
            let file = self.word(file.as_str());
            self.with_all_rights(&format!("(Get-Content {file}) | Set-Content -Encoding ascii {file}; yandro settle"))
        } else {
            format!(
                "sudo sh -c 'text=$(iconv -f UTF-16 -t UTF-8 {file}) && printf \"%s\\n\" \"$text\" > {file}' && yandro settle"
            )
        }
    }

    /// Makes a hosts file that is missing.
    pub fn make_hosts(self, file: &Utf8Path) -> String {
        if self == Self::Windows {
            let file = self.word(file.as_str());
            self.with_all_rights(&format!(
                "Set-Content -Encoding ascii {file} '127.0.0.1 localhost','::1 localhost'; yandro settle"
            ))
        } else {
            format!(
                "sudo sh -c 'rm -f {file}; printf \"127.0.0.1 localhost\\n::1 localhost\\n\" > {file}' && yandro settle"
            )
        }
    }
}

/// The words of a command line, as programs of Windows read them (`CommandLineToArgvW`).
pub fn windows_words(line: &str) -> Vec<String> {
    let (mut words, mut word, mut is_quoted, mut has_word) = (Vec::new(), String::new(), false, false);
    let mut chars = line.chars().peekable();
    while let Some(c) = chars.next() {
        match c {
            '\\' => {
                let mut count = 1;
                while chars.next_if_eq(&'\\').is_some() {
                    count += 1;
                }
                let is_before_quote = chars.peek() == Some(&'"');
                let kept = if is_before_quote { count / 2 } else { count };
                word.extend(std::iter::repeat_n('\\', kept));
                if is_before_quote && count % 2 == 1 {
                    word.extend(chars.next());
                }
                has_word = true;
            }
            '"' => (is_quoted, has_word) = (!is_quoted, true),
            ' ' | '\t' if !is_quoted => {
                if std::mem::take(&mut has_word) {
                    words.push(std::mem::take(&mut word));
                }
            }
            c => {
                word.push(c);
                has_word = true;
            }
        }
    }
    if has_word {
        words.push(word);
    }
    words
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_are_those_of_the_manual() {
        for (line, expected) in [
            (r#""C:\web tools\nginx.exe" -p C:/web"#, &[r"C:\web tools\nginx.exe", "-p", "C:/web"][..]),
            (r#""a b c" d e"#, &["a b c", "d", "e"]),
            (r#""ab\"c" "\\" d"#, &[r#"ab"c"#, r"\", "d"]),
            (r#"a\\\b d"e f"g h"#, &[r"a\\\b", "de fg", "h"]),
            (r#"a\\\"b c d"#, &[r#"a\"b"#, "c", "d"]),
            (r#"a\\\\"b c" d "" e"#, &[r"a\\b c", "d", "", "e"]),
        ] {
            assert_eq!(windows_words(line), expected, "{line}");
        }
    }

    #[test]
    fn a_windows_person_reads_commands_of_windows() {
        let (windows, linux) = (System::Windows, System::Linux);
        assert_eq!(windows.word(r"C:\web tools\a'b"), r"'C:\web tools\a''b'");
        assert_eq!(linux.word("a b'c"), r"'a b'\''c'");
        insta::assert_snapshot!(
            [
                windows.end_process(4711, true),
                windows.edit(r"C:\nginx\conf\nginx.conf", 7),
                windows.make_folder(r"C:\sites\new pier"),
                windows.then("yandro servers stop apache", "yandro servers start nginx"),
                windows.make_hosts(Utf8Path::new(r"C:\Windows\System32\drivers\etc\hosts")),
                windows.no_proxy("saltmarsh.test"),
                linux.end_process(4711, true),
                linux.edit("/etc/nginx/nginx.conf", 7),
                linux.make_folder("/srv/new pier"),
                linux.then("yandro servers stop apache", "yandro servers start nginx"),
            ]
            .join("\n"),
            @r#"
            Stop-Process -Id 4711 (in a PowerShell that was opened as administrator)
            notepad C:\nginx\conf\nginx.conf
            mkdir 'C:\sites\new pier'
            yandro servers stop apache; if ($?) { yandro servers start nginx }
            Set-Content -Encoding ascii C:\Windows\System32\drivers\etc\hosts '127.0.0.1 localhost','::1 localhost'; yandro settle (in a PowerShell that was opened as administrator)
            $env:no_proxy = "$env:no_proxy,saltmarsh.test"
            sudo kill 4711
            ${EDITOR:-vi} +7 /etc/nginx/nginx.conf
            mkdir -p '/srv/new pier'
            yandro servers stop apache && yandro servers start nginx
            "#
        );
    }
}
