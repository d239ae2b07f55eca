//! Having a command run every day, or all the time: by systemd (systemd.timer(5), systemd.socket(5)), by cron
//! (crontab(5)), by launchd (launchd.plist(5)) or by the Task Scheduler of Windows (its XML schema, version 1.2).

use core::net::SocketAddr;
use std::fmt::Write as _;

use crate::shell;

/// A command to run, with its user.
#[derive(Clone, Copy, Debug)]
pub struct Job<'a> {
    /// The name of its units, files or task.
    pub name: &'a str,
    /// Its purpose, in a few words.
    pub title: &'a str,
    /// The program, absolute, and its arguments.
    pub command: &'a [String],
    /// Variables that it needs.
    pub environment: &'a [(&'a str, String)],
    /// The user that the system's own manager runs it as, by name or number, if not root.
    pub user: Option<&'a str>,
    /// When it runs.
    pub when: When<'a>,
}

/// When a job runs.
#[derive(Clone, Copy, Debug)]
pub enum When<'a> {
    /// Once a day, and after a day on which the machine was off.
    Daily,
    /// From the start of the machine or the login on; it is started again when it fails.
    Always {
        /// The sockets that systemd opens for it.
        sockets: &'a [SocketAddr],
        /// Whether the system's own systemd runs it, and not the user's.
        is_systems: bool,
    },
}

impl Job<'_> {
    /// The units of systemd: file name and text of each.
    pub fn units(&self) -> Vec<(String, String)> {
        let name = self.name;
        let other = match self.when {
            When::Daily => Some((format!("{name}.timer"), self.timer_unit())),
            When::Always { sockets: [], .. } => None,
            When::Always { sockets, .. } => Some((format!("{name}.socket"), self.socket_unit(sockets))),
        };
        std::iter::once((format!("{name}.service"), self.service_unit())).chain(other).collect()
    }

    /// The links by which systemd starts the units, below their folder: path, and the unit that it leads to.
    pub fn links(&self) -> Vec<(String, String)> {
        let link = |target: &str, kind: &str| {
            let unit = format!("{}.{kind}", self.name);
            (format!("{target}.wants/{unit}"), format!("../{unit}"))
        };
        match self.when {
            When::Daily => vec![link("timers.target", "timer")],
            When::Always { sockets: [], .. } => vec![link(self.service_target(), "service")],
            When::Always { .. } => vec![link("sockets.target", "socket"), link(self.service_target(), "service")],
        }
    }

    /// The target that a service which always runs belongs to.
    fn service_target(&self) -> &'static str {
        match self.when {
            When::Always { is_systems: true, .. } => "multi-user.target",
            _ => "default.target",
        }
    }

    fn service_unit(&self) -> String {
        let words: Vec<String> = self.command.iter().map(|word| unit_word(word)).collect();
        let mut text = format!("[Unit]\nDescription={}\n", self.title);
        if let When::Always { sockets, .. } = self.when {
            if !sockets.is_empty() {
                _ = writeln!(text, "Requires={0}.socket\nAfter={0}.socket", self.name);
            }
            // A list that can't be read may be put right at any time.
            text += "StartLimitIntervalSec=0\n";
        }
        text += match self.when {
            When::Daily => "\n[Service]\nType=oneshot\n",
            When::Always { .. } => "\n[Service]\nRestart=on-failure\nRestartSec=1\n",
        };
        if let Some(user) = self.user {
            _ = writeln!(text, "User={user}");
        }
        for (name, value) in self.environment {
            _ = writeln!(text, "Environment={}", unit_word(&format!("{name}={value}")));
        }
        _ = writeln!(text, "ExecStart={}", words.join(" "));
        if let When::Always { sockets, .. } = self.when {
            let also = if sockets.is_empty() { String::new() } else { format!("Also={}.socket\n", self.name) };
            _ = write!(text, "\n[Install]\n{also}WantedBy={}\n", self.service_target());
        }
        text
    }

    fn timer_unit(&self) -> String {
        format!(
            "[Unit]\nDescription={}\n\n[Timer]\nOnCalendar=daily\nPersistent=true\nRandomizedDelaySec=1h\n\n[Install]\nWantedBy=timers.target\n",
            self.title
        )
    }

    fn socket_unit(&self, sockets: &[SocketAddr]) -> String {
        let lines: String = sockets.iter().map(|socket| format!("ListenStream={socket}\n")).collect();
        format!("[Unit]\nDescription={}\n\n[Socket]\n{lines}\n[Install]\nWantedBy=sockets.target\n", self.title)
    }

    /// The agent of launchd. A daily one also runs after a night in which the machine slept.
    pub fn launchd_agent(&self) -> String {
        let text = |value: &str| format!("<string>{}</string>", xml(value));
        let words: String = self.command.iter().map(|word| format!("\t\t{}\n", text(word))).collect();
        let variable = |(name, value): &(&str, String)| format!("\t\t<key>{name}</key>{}\n", text(value));
        let environment: String = self.environment.iter().map(variable).collect();
        let user = self.user.map(|user| format!("\t<key>UserName</key>{}\n", text(user))).unwrap_or_default();
        let when = match self.when {
            When::Daily => {
                "\t<key>StartCalendarInterval</key>\n\t<dict>\n\t\t<key>Hour</key><integer>9</integer>\n\t\t<key>Minute</key><integer>17</integer>\n\t</dict>\n"
            }
            When::Always { .. } => {
                "\t<key>RunAtLoad</key><true/>\n\t<key>KeepAlive</key>\n\t<dict>\n\t\t<key>SuccessfulExit</key><false/>\n\t</dict>\n"
            }
        };
        format!(
            "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<plist version=\"1.0\">\n<dict>\n\t<key>Label</key>{}\n\t<key>ProgramArguments</key>\n\t<array>\n{words}\t</array>\n\t<key>EnvironmentVariables</key>\n\t<dict>\n{environment}\t</dict>\n{user}{when}</dict>\n</plist>\n",
            text(self.name)
        )
    }

    /// The definition of a task of Windows, run with the usual rights of `user`, a security identifier, while that user
    /// is logged on.
    pub fn windows_task(&self, user: &str) -> String {
        let (program, arguments) =
            self.command.split_first().map_or((String::new(), String::new()), |(first, rest)| {
                (xml(first), xml(&rest.iter().map(|word| windows_word(word)).collect::<Vec<_>>().join(" ")))
            });
        let trigger = match self.when {
            When::Daily => {
                "<CalendarTrigger><StartBoundary>2020-01-01T09:17:00</StartBoundary><ScheduleByDay><DaysInterval>1</DaysInterval></ScheduleByDay></CalendarTrigger>".to_owned()
            }
            When::Always { .. } => format!("<LogonTrigger><UserId>{user}</UserId></LogonTrigger>"),
        };
        let restart = match self.when {
            When::Daily => "",
            When::Always { .. } => {
                "\n    <RestartOnFailure><Interval>PT1M</Interval><Count>255</Count></RestartOnFailure>"
            }
        };
        let limit = match self.when {
            When::Daily => "PT1H",
            When::Always { .. } => "PT0S",
        };
        format!(
            r#"<?xml version="1.0" encoding="UTF-16"?>
<Task version="1.2" xmlns="http://schemas.microsoft.com/windows/2004/02/mit/task">
  <RegistrationInfo><Description>{}</Description></RegistrationInfo>
  <Triggers>{trigger}</Triggers>
  <Principals><Principal id="Author"><UserId>{user}</UserId><LogonType>InteractiveToken</LogonType><RunLevel>LeastPrivilege</RunLevel></Principal></Principals>
  <Settings>
    <MultipleInstancesPolicy>IgnoreNew</MultipleInstancesPolicy>
    <DisallowStartIfOnBatteries>false</DisallowStartIfOnBatteries>
    <StopIfGoingOnBatteries>false</StopIfGoingOnBatteries>
    <StartWhenAvailable>true</StartWhenAvailable>{restart}
    <ExecutionTimeLimit>{limit}</ExecutionTimeLimit>
  </Settings>
  <Actions Context="Author"><Exec><Command>{program}</Command><Arguments>{arguments}</Arguments></Exec></Actions>
</Task>
"#,
            xml(self.title)
        )
    }

    /// The lines of a user's own crontab.
    pub fn crontab(&self) -> String {
        format!("# {}\n17 9 * * * {}\n", self.title, self.cron_words())
    }

    fn cron_words(&self) -> String {
        // A percent sign ends the command there.
        let words: Vec<String> = self.command.iter().map(|word| shell::word(word).replace('%', "\\%")).collect();
        words.join(" ")
    }

    /// A file for cron's folder of further tables, whose lines name a user: root, if the job has none.
    pub fn cron_file(&self) -> String {
        let environment: String = self.environment.iter().map(|(name, value)| format!("{name}={value}\n")).collect();
        let user = self.user.unwrap_or("root");
        format!("# {}\n{environment}17 9 * * * {user} {}\n", self.title, self.cron_words())
    }
}

/// A word of a unit's line: in quotes, with what means something there escaped.
fn unit_word(word: &str) -> String {
    let escaped = word.replace('\\', "\\\\").replace('"', "\\\"").replace('%', "%%").replace('$', "$$");
    let is_plain = !escaped.is_empty()
        && escaped.bytes().all(|byte| byte.is_ascii_graphic() && !matches!(byte, b'"' | b'\\' | b'\'' | b';'));
    if is_plain { escaped } else { format!("\"{escaped}\"") }
}

/// A text between two tags.
fn xml(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;")
}

/// A word of a command line, as programs of Windows take it apart: in quotes where it has a space, with the backslashes
/// before a quote doubled.
fn windows_word(word: &str) -> String {
    if !word.is_empty() && !word.contains([' ', '\t', '"']) {
        return word.to_owned();
    }
    let mut out = String::from("\"");
    let mut backslashes = 0;
    for c in word.chars() {
        match c {
            '\\' => backslashes += 1,
            '"' => {
                out.extend(std::iter::repeat_n('\\', backslashes + 1));
                backslashes = 0;
            }
            _ => backslashes = 0,
        }
        out.push(c);
    }
    out.extend(std::iter::repeat_n('\\', backslashes));
    out.push('"');
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_mean_themselves_in_units_in_cron_and_in_tasks() {
        let command =
            ["/opt/ada's tools/yandro", "cert", "renew", "--passphrase-file", "/srv/100% $tide"].map(str::to_owned);
        let environment = [("SUDO_UID", "1000".to_owned())];
        let job = Job {
            name: "yandro-renew",
            title: "Renew certificates",
            command: &command,
            environment: &environment,
            user: None,
            when: When::Daily,
        };
        insta::assert_snapshot!(job.units()[0].1, @r#"
        [Unit]
        Description=Renew certificates

        [Service]
        Type=oneshot
        Environment=SUDO_UID=1000
        ExecStart="/opt/ada's tools/yandro" cert renew --passphrase-file "/srv/100%% $$tide"
        "#);
        insta::assert_snapshot!(job.cron_file(), @r#"
        # Renew certificates
        SUDO_UID=1000
        17 9 * * * root '/opt/ada'\''s tools/yandro' cert renew --passphrase-file '/srv/100\% $tide'
        "#);
        assert!(job.windows_task("S-1-5-21-7").contains(
            "<Command>/opt/ada's tools/yandro</Command><Arguments>cert renew --passphrase-file \"/srv/100% $tide\"<"
        ));
        for (word, quoted) in [(r"C:\", r"C:\"), (r"C:\my sites\", r#""C:\my sites\\""#), (r#"a\"b"#, r#""a\\\"b""#)] {
            assert_eq!(windows_word(word), quoted);
        }
    }

    #[test]
    fn a_service_that_always_runs_gets_its_sockets_from_systemd() {
        let command = ["/usr/bin/yandro", "serve"].map(str::to_owned);
        let sockets = ["127.0.0.1:80", "[::1]:443"].map(|text| text.parse().unwrap());
        let when = When::Always { sockets: &sockets, is_systems: true };
        let title = "Serve the local sites";
        let job =
            Job { name: "yandro-serve-1000", title, command: &command, environment: &[], user: Some("1000"), when };
        let units: String = job.units().iter().map(|(name, text)| format!("{name}:\n{text}\n")).collect();
        insta::assert_snapshot!(units.trim_end(), @"
        yandro-serve-1000.service:
        [Unit]
        Description=Serve the local sites
        Requires=yandro-serve-1000.socket
        After=yandro-serve-1000.socket
        StartLimitIntervalSec=0

        [Service]
        Restart=on-failure
        RestartSec=1
        User=1000
        ExecStart=/usr/bin/yandro serve

        [Install]
        Also=yandro-serve-1000.socket
        WantedBy=multi-user.target

        yandro-serve-1000.socket:
        [Unit]
        Description=Serve the local sites

        [Socket]
        ListenStream=127.0.0.1:80
        ListenStream=[::1]:443

        [Install]
        WantedBy=sockets.target
        ");
        let links =
            ["sockets.target.wants/yandro-serve-1000.socket", "multi-user.target.wants/yandro-serve-1000.service"];
        assert!(job.links().iter().map(|(link, _)| link).eq(links));
        assert!(
            job.launchd_agent().contains("<key>UserName</key><string>1000</string>\n\t<key>RunAtLoad</key><true/>")
        );
    }
}
