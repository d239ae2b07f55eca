//! Having a command run every day: as a timer of systemd (systemd.timer(5)), as a line of cron (crontab(5)), or as an
//! agent of launchd (launchd.plist(5)), which was never run.

use camino::Utf8Path;

use crate::shell;

/// A command to run, with its user.
#[derive(Clone, Copy, Debug)]
pub struct Job<'a> {
    /// Its purpose, in a few words.
    pub title: &'a str,
    /// The program, absolute, and its arguments.
    pub command: &'a [String],
    /// Variables that it needs.
    pub environment: &'a [(&'a str, String)],
}

/// The name of the units and files.
pub const NAME: &str = "yandro-renew";

impl Job<'_> {
    /// The service unit that does it once.
    pub fn service_unit(&self) -> String {
        let words: Vec<String> = self.command.iter().map(|word| unit_word(word)).collect();
        let variable =
            |(name, value): &(&str, String)| format!("Environment={}\n", unit_word(&format!("{name}={value}")));
        let environment: String = self.environment.iter().map(variable).collect();
        format!(
            "[Unit]\nDescription={}\n\n[Service]\nType=oneshot\n{environment}ExecStart={}\n",
            self.title,
            words.join(" ")
        )
    }

    /// The timer unit that has it done daily, and after a day on which the machine was off.
    pub fn timer_unit(&self) -> String {
        format!(
            "[Unit]\nDescription={}\n\n[Timer]\nOnCalendar=daily\nPersistent=true\nRandomizedDelaySec=1h\n\n[Install]\nWantedBy=timers.target\n",
            self.title
        )
    }

    /// The agent that has it done daily, and after a night in which the machine slept.
    pub fn launchd_agent(&self) -> String {
        let text = |value: &str| format!("<string>{}</string>", value.replace('&', "&amp;").replace('<', "&lt;"));
        let words: String = self.command.iter().map(|word| format!("\t\t{}\n", text(word))).collect();
        let variable = |(name, value): &(&str, String)| format!("\t\t<key>{name}</key>{}\n", text(value));
        let environment: String = self.environment.iter().map(variable).collect();
        format!(
            "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<plist version=\"1.0\">\n<dict>\n\t<key>Label</key>{}\n\t<key>ProgramArguments</key>\n\t<array>\n{words}\t</array>\n\t<key>EnvironmentVariables</key>\n\t<dict>\n{environment}\t</dict>\n\t<key>StartCalendarInterval</key>\n\t<dict>\n\t\t<key>Hour</key><integer>9</integer>\n\t\t<key>Minute</key><integer>17</integer>\n\t</dict>\n</dict>\n</plist>\n",
            text(NAME)
        )
    }

    /// The lines of a user's own table.
    pub fn crontab(&self) -> String {
        format!("# {}\n17 9 * * * {}\n", self.title, self.cron_words())
    }

    fn cron_words(&self) -> String {
        // A percent sign ends the command there.
        let words: Vec<String> = self.command.iter().map(|word| shell::word(word).replace('%', "\\%")).collect();
        words.join(" ")
    }

    /// A file for cron's folder of further tables, whose lines name a user.
    pub fn cron_file(&self, user: &str) -> String {
        let environment: String = self.environment.iter().map(|(name, value)| format!("{name}={value}\n")).collect();
        format!("# {}\n{environment}17 9 * * * {user} {}\n", self.title, self.cron_words())
    }
}

/// The link by which systemd starts the timer, below the folder of units.
pub fn wanted_link(units: &Utf8Path) -> camino::Utf8PathBuf {
    units.join("timers.target.wants").join(format!("{NAME}.timer"))
}

/// A word of a unit's line: in quotes, with what means something there escaped.
fn unit_word(word: &str) -> String {
    let escaped = word.replace('\\', "\\\\").replace('"', "\\\"").replace('%', "%%").replace('$', "$$");
    let is_plain = !escaped.is_empty()
        && escaped.bytes().all(|byte| byte.is_ascii_graphic() && !matches!(byte, b'"' | b'\\' | b'\'' | b';'));
    if is_plain { escaped } else { format!("\"{escaped}\"") }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_mean_themselves_in_units_and_in_cron() {
        let command =
            ["/opt/ada's tools/yandro", "cert", "renew", "--passphrase-file", "/srv/100% $tide"].map(str::to_owned);
        let environment = [("SUDO_UID", "1000".to_owned())];
        let job = Job { title: "Renew certificates", command: &command, environment: &environment };
        insta::assert_snapshot!(job.service_unit(), @r#"
        [Unit]
        Description=Renew certificates

        [Service]
        Type=oneshot
        Environment=SUDO_UID=1000
        ExecStart="/opt/ada's tools/yandro" cert renew --passphrase-file "/srv/100%% $$tide"
        "#);
        insta::assert_snapshot!(job.cron_file("root"), @r#"
        # Renew certificates
        SUDO_UID=1000
        17 9 * * * root '/opt/ada'\''s tools/yandro' cert renew --passphrase-file '/srv/100\% $tide'
        "#);
    }
}
