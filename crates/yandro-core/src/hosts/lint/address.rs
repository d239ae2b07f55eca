//! The probable meaning of a text that is not an address.

use core::net::{IpAddr, Ipv4Addr};

/// The address that a word means in other programs, if that is beyond doubt: in brackets, with
/// a port or a mask, short, hexadecimal or padded.
pub(super) fn meant(word: &str) -> Option<IpAddr> {
    let bare = word.split('/').next().unwrap_or(word);
    let inner = bare.strip_prefix('[').map(|rest| rest.split(']').next().unwrap_or(rest));
    if let Some(address) = inner.and_then(|inner| inner.parse().ok()) {
        return Some(address);
    }
    if let Ok(address) = bare.parse() {
        return Some(address);
    }
    let bare = match bare.split_once(':') {
        Some((host, port)) if !port.is_empty() && port.bytes().all(|byte| byte.is_ascii_digit()) => host,
        _ => bare,
    };
    bare.parse().ok().or_else(|| short(bare).map(IpAddr::V4))
}

/// The forms of `inet_aton(3)`: one to four numbers, of which the last fills the rest. A number
/// that has one value in octal and another in decimal is in doubt.
fn short(text: &str) -> Option<Ipv4Addr> {
    let parts: Vec<u32> = text.split('.').map(number).collect::<Option<_>>()?;
    let (last, first) = parts.split_last()?;
    // A lone number is more probably a slip than an address.
    if first.is_empty() || first.len() > 3 || first.iter().any(|part| *part > 255) {
        return None;
    }
    let room = 8 * (4 - u32::try_from(first.len()).ok()?);
    if room < 32 && u64::from(*last) >= 1 << room {
        return None;
    }
    let high = first.iter().zip([24, 16, 8]).fold(0, |sum, (part, shift)| sum | part << shift);
    Some(Ipv4Addr::from(high | *last))
}

fn number(text: &str) -> Option<u32> {
    if let Some(hexadecimal) = text.strip_prefix("0x").or_else(|| text.strip_prefix("0X")) {
        return u32::from_str_radix(hexadecimal, 16).ok();
    }
    let decimal = text.bytes().all(|byte| byte.is_ascii_digit()).then(|| text.parse().ok())??;
    let is_padded = text.len() > 1 && text.starts_with('0');
    (!is_padded || u32::from_str_radix(text, 8) == Ok(decimal)).then_some(decimal)
}

/// The address with a part too many, such as `127.0.0.0.1`, if taking a zero out makes it one.
pub(super) fn near(word: &str) -> Option<Ipv4Addr> {
    let parts: Vec<&str> = word.split('.').collect();
    let without = |place: usize| {
        let rest: Vec<&str> =
            parts.iter().enumerate().filter(|(other, _)| *other != place).map(|(_, part)| *part).collect();
        rest.join(".").parse().ok()
    };
    (0..parts.len()).filter(|place| parts[*place] == "0").find_map(without)
}
