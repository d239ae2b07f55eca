//! The file of a site that is out of use: its virtual hosts as comments.

/// Before each line.
const SIGN: &[u8] = b"#| ";

/// A site's file with every line a comment. The first one, which names its owner, stays as it is.
pub(crate) fn set_aside(file: &[u8]) -> Vec<u8> {
    let line = |(number, line): (usize, &[u8])| {
        let is_head = number == 0 && line.starts_with(b"#");
        if is_head { line.to_vec() } else { [SIGN, line].concat() }
    };
    file.split_inclusive(|byte| *byte == b'\n').enumerate().map(line).collect::<Vec<_>>().concat()
}

/// The text given to [`set_aside`], with the lines that the user has added since.
pub fn brought_back(file: &[u8]) -> Vec<u8> {
    let line = |line: &'_ [u8]| line.strip_prefix(SIGN).unwrap_or(line).to_vec();
    file.split_inclusive(|byte| *byte == b'\n').map(line).collect::<Vec<_>>().concat()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_file_comes_back_to_the_byte() {
        for file in
            [&b"# a site\r\n<VirtualHost *:80>\r\n\r\n# mine\r\n</VirtualHost>"[..], b"", b"server {\n}\n", b"#| odd\n"]
        {
            let aside = set_aside(file);
            assert!(aside.split(|byte| *byte == b'\n').all(|line| line.is_empty() || line.starts_with(b"#")));
            if !file.starts_with(SIGN) {
                assert_eq!(brought_back(&aside), file);
            }
        }
    }
}
