//! The time that a request took, where the format of a log has it.

use core::time::Duration;

use super::behind_request;

/// Where a format has the time: in a word of the text after the combined format.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TookField {
    /// Which word.
    word: usize,
    /// The text around the number in that word.
    around: (String, String),
    /// How many nanoseconds one is.
    unit: u32,
}

/// The names of times in formats of Apache httpd (`mod_log_config`) and nginx (`ngx_http_log_module`), each with how many
/// nanoseconds one of them is.
const NAMES: [(&str, u32); 6] = [
    ("%{us}T", 1_000),
    ("%{ms}T", 1_000_000),
    ("%{s}T", 1_000_000_000),
    ("%D", 1_000),
    ("%T", 1_000_000_000),
    ("$request_time", 1_000_000_000),
];

impl TookField {
    /// The place of the time in a format that begins like the combined one; `None` if it has none.
    pub fn of_format(format: &str) -> Option<Self> {
        let (_, rest) = format.split_once('"')?;
        let (_, rest) = behind_request(rest)?;
        let words = rest.split_whitespace().enumerate();
        let found = words.flat_map(|(word, text)| NAMES.map(|(name, unit)| (word, text, name, unit)));
        found.into_iter().find_map(|(word, text, name, unit)| {
            let (before, after) = text.split_once(name)?;
            // `$request_time_ms` is something else.
            let goes_on =
                name.starts_with('$') && after.starts_with(|next: char| next.is_alphanumeric() || next == '_');
            (!goes_on).then(|| Self { word, around: (before.to_owned(), after.to_owned()), unit })
        })
    }

    /// The time, from the text after the combined format of a line.
    pub fn read(&self, rest: &str) -> Option<Duration> {
        let word = rest.split_whitespace().nth(self.word)?;
        let number = word.strip_prefix(self.around.0.as_str())?.strip_suffix(self.around.1.as_str())?;
        let number: f64 = number.parse().ok().filter(|number| (0.0..1e12).contains(number))?;
        Duration::try_from_secs_f64(number * f64::from(self.unit) / 1e9).ok()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const COMBINED: &str = "%h %l %u %t \"%r\" %>s %O \"%{Referer}i\" \"%{User-Agent}i\"";

    #[test]
    fn the_time_is_read_where_the_format_has_it() {
        let nginx = "$remote_addr - $remote_user [$time_local] \"$request\" $status $body_bytes_sent \"$http_referer\" \"$http_user_agent\" rt=$request_time;";
        let read = |format: &str, rest: &str| TookField::of_format(format)?.read(rest).map(|took| took.as_micros());
        for (format, rest, expected) in [
            (format!("{COMBINED} %D"), "1500", Some(1_500)),
            (format!("{COMBINED} %I %{{ms}}T"), "512 12", Some(12_000)),
            (format!("{COMBINED} took=%Ts"), "took=3s", Some(3_000_000)),
            (nginx.to_owned(), "rt=0.042;", Some(42_000)),
            (nginx.to_owned(), "rt=-;", None),
            (format!("{COMBINED} %D"), "", None),
            (COMBINED.to_owned(), "1500", None),
            (nginx.replace("request_time", "request_time_ms"), "rt=1;", None),
            ("%h %D".to_owned(), "1500", None),
            ("%h %l %u %t \"%r\" %>s %b %D".to_owned(), "1500", Some(1_500)),
        ] {
            assert_eq!(read(&format, rest), expected, "{format}: {rest}");
        }
    }
}
