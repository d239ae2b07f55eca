//! Security identifiers ([MS-DTYP] 2.4.2).

use std::fmt;
use std::str::FromStr;

/// The most parts of one.
const PARTS: usize = 15;

/// The identifier of a user, group or service.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Sid {
    authority: u64,
    count: usize,
    parts: [u32; PARTS],
}

impl Sid {
    /// Nobody (`S-1-0-0`).
    pub const NOBODY: Self = Self::of(0, &[0]);
    /// The system itself.
    pub const SYSTEM: Self = Self::of(5, &[18]);
    /// The group of administrators.
    pub const ADMINISTRATORS: Self = Self::of(5, &[32, 544]);
    /// The owner of Windows's own files.
    pub const TRUSTED_INSTALLER: Self =
        Self::of(5, &[80, 956_008_885, 3_418_522_649, 1_831_038_044, 1_853_292_631, 2_271_478_464]);
    /// All users.
    pub const EVERYONE: Self = Self::of(1, &[0]);
    /// Whoever has signed in.
    pub const SIGNED_IN: Self = Self::of(5, &[11]);
    /// Whoever owns the file.
    pub const OWNER_RIGHTS: Self = Self::of(3, &[4]);
    /// Whoever makes something in the folder.
    pub const CREATOR_OWNER: Self = Self::of(3, &[0]);

    const fn of(authority: u64, given: &[u32]) -> Self {
        let mut parts = [0; PARTS];
        let mut at = 0;
        while at < given.len() {
            parts[at] = given[at];
            at += 1;
        }
        Self { authority, count: given.len(), parts }
    }

    /// Reads one at the beginning of some bytes.
    pub fn from_bytes(bytes: &[u8]) -> Option<Self> {
        let (head, rest) = bytes.split_at_checked(8)?;
        let count = usize::from(head[1]);
        if head[0] != 1 || count > PARTS {
            return None;
        }
        let authority = head[2..].iter().fold(0, |sum, byte| sum << 8 | u64::from(*byte));
        let mut parts = [0; PARTS];
        for (part, four) in parts.iter_mut().zip(rest.get(..count * 4)?.chunks_exact(4)) {
            *part = u32::from_le_bytes([four[0], four[1], four[2], four[3]]);
        }
        Some(Self { authority, count, parts })
    }

    /// Its bytes.
    pub fn to_bytes(&self) -> Vec<u8> {
        let mut bytes = vec![1, u8::try_from(self.count).unwrap_or(0)];
        bytes.extend_from_slice(&self.authority.to_be_bytes()[2..]);
        bytes.extend(self.parts[..self.count].iter().flat_map(|part| part.to_le_bytes()));
        bytes
    }

    /// Whether it is an account of a person's: one of this machine's or of a domain's, no service's.
    pub fn is_person(&self) -> bool {
        self.authority == 5 && self.count > 1 && self.parts[0] == 21
    }

    /// Whether it is the system's, its installer's or the administrators'.
    pub fn is_of_system(&self) -> bool {
        [Self::SYSTEM, Self::ADMINISTRATORS, Self::TRUSTED_INSTALLER].contains(self)
    }
}

impl fmt::Display for Sid {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "S-1-{}", self.authority)?;
        self.parts[..self.count].iter().try_for_each(|part| write!(f, "-{part}"))
    }
}

impl fmt::Debug for Sid {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}

impl FromStr for Sid {
    type Err = &'static str;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        const FAULT: &str = "not a security identifier";
        let mut words = text.strip_prefix("S-1-").ok_or(FAULT)?.split('-');
        let authority = words.next().and_then(|word| word.parse().ok()).ok_or(FAULT)?;
        let parts: Vec<u32> = words.map(str::parse).collect::<Result<_, _>>().map_err(|_| FAULT)?;
        if parts.len() > PARTS { Err(FAULT) } else { Ok(Self::of(authority, &parts)) }
    }
}
