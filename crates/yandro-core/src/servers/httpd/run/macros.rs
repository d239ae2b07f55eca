//! `<Macro>` and `Use` (`mod_macro`).

/// A macro as it was defined.
#[derive(Clone, Debug)]
pub(super) struct Macro {
    /// Its name in lower case, as the server reports it.
    pub(super) name: String,
    /// Its parameters with their signs.
    pub(super) parameters: Vec<String>,
    /// The lines of its body, joined where they are continued; the first has number 1.
    pub(super) body: Vec<String>,
    /// Place of its definition, as the server names it.
    pub(super) defined: String,
}

impl Macro {
    /// The body with the arguments in the place of the parameters.
    pub(super) fn with(&self, arguments: &[String]) -> Vec<String> {
        // The longest first: a parameter may begin as another one does.
        let mut pairs: Vec<(&String, &String)> = self.parameters.iter().zip(arguments).collect();
        pairs.sort_by_key(|(parameter, _)| std::cmp::Reverse(parameter.len()));
        self.body.iter().map(|line| replaced(line, &pairs)).collect()
    }
}

/// One pass from left to right: inserted text is not replaced again.
fn replaced(line: &str, pairs: &[(&String, &String)]) -> String {
    let mut out = String::new();
    let mut rest = line;
    while let Some(c) = rest.chars().next() {
        let found = pairs.iter().find(|(parameter, _)| !parameter.is_empty() && rest.starts_with(parameter.as_str()));
        if let Some((parameter, argument)) = found {
            out += argument;
            rest = &rest[parameter.len()..];
        } else {
            out.push(c);
            rest = &rest[c.len_utf8()..];
        }
    }
    out
}
