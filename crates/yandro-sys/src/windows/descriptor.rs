//! Security descriptors in one piece of memory ([MS-DTYP] 2.4.6).

use super::Sid;

/// The control bits: a list of rights is there; it takes nothing from the folder above; all in one piece.
const HAS_LIST: u16 = 0x0004;
const PROTECTED: u16 = 0x1000;
const IN_ONE_PIECE: u16 = 0x8000;
/// Entries that allow, and that deny.
const ALLOWS: u8 = 0;
/// The entry goes to files and folders below, too.
const HANDED_DOWN: u8 = 0x03;
/// The entry is only for what is below.
const ONLY_BELOW: u8 = 0x08;
/// All rights on a file (`FILE_ALL_ACCESS`).
const ALL: u32 = 0x001f_01ff;
/// To read and to run (`FILE_GENERIC_READ | FILE_GENERIC_EXECUTE`).
const READ: u32 = 0x0012_00a9;

/// Rights by which something can be changed: its data or entries, its attributes, its rights, its owner, or removed;
/// and the generic rights to write and to all.
pub const CHANGES: u32 = 0x500d_0156;
/// Rights by which its data can be read: those of a file, and the generic ones.
pub const READS: u32 = 0x9000_0001;

/// The owner of a file or folder, and who has which rights on it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Descriptor(Vec<u8>);

/// An entry that grants rights.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Allowed {
    /// To whom.
    pub sid: Sid,
    /// The rights (`ACCESS_MASK`).
    pub rights: u32,
}

impl Descriptor {
    /// From the bytes that the system gave.
    pub fn from_bytes(bytes: Vec<u8>) -> Self {
        Self(bytes)
    }

    /// Its bytes.
    pub fn bytes(&self) -> &[u8] {
        &self.0
    }

    /// All rights for these, and nothing for anybody else, whatever the folder above hands down.
    pub fn only(allowed: &[Sid]) -> Self {
        Self::of(&allowed.iter().map(|sid| Allowed { sid: *sid, rights: ALL }).collect::<Vec<_>>())
    }

    /// The same, and everybody may read.
    pub fn readable(allowed: &[Sid]) -> Self {
        let all = allowed.iter().map(|sid| Allowed { sid: *sid, rights: ALL });
        Self::of(&all.chain([Allowed { sid: Sid::EVERYONE, rights: READ }]).collect::<Vec<_>>())
    }

    /// Owned by the administrators, and for nobody else but the system.
    pub fn of_administrators() -> Self {
        Self::only(&[Sid::SYSTEM, Sid::ADMINISTRATORS]).owned_by(Sid::ADMINISTRATORS)
    }

    /// The same with an owner, who has to be one that this process may name.
    #[must_use]
    pub fn owned_by(mut self, owner: Sid) -> Self {
        let at = u32::try_from(self.0.len()).unwrap_or(0);
        self.0[4..8].copy_from_slice(&at.to_le_bytes());
        self.0.extend(owner.to_bytes());
        self
    }

    fn of(allowed: &[Allowed]) -> Self {
        let entries: Vec<Vec<u8>> = allowed.iter().map(entry).collect();
        let size = 8 + entries.iter().map(Vec::len).sum::<usize>();
        let short = |number: usize| u16::try_from(number).unwrap_or(u16::MAX).to_le_bytes();
        let mut bytes = vec![1, 0];
        bytes.extend((HAS_LIST | PROTECTED | IN_ONE_PIECE).to_le_bytes());
        // No owner, group and list of audits; the list of rights follows.
        bytes.extend([0, 0, 0, 20].into_iter().flat_map(u32::to_le_bytes));
        bytes.extend([2, 0]);
        bytes.extend(short(size).into_iter().chain(short(entries.len())).chain([0, 0]));
        bytes.extend(entries.concat());
        Self(bytes)
    }

    fn number(&self, at: usize) -> Option<usize> {
        let bytes = self.0.get(at..at + 4)?.try_into().ok()?;
        usize::try_from(u32::from_le_bytes(bytes)).ok()
    }

    /// The owner, if it was asked for.
    pub fn owner(&self) -> Option<Sid> {
        let at = self.number(4).filter(|at| *at != 0)?;
        Sid::from_bytes(self.0.get(at..)?)
    }

    /// The entries that grant rights on the object itself; `None` without a list, which grants everything to everybody.
    /// Entries that deny are ignored, so the result may contain more than is granted.
    pub fn allowed(&self) -> Option<Vec<Allowed>> {
        let control = u16::from_le_bytes(self.0.get(2..4)?.try_into().ok()?);
        let at = self.number(16).filter(|at| *at != 0 && control & HAS_LIST != 0)?;
        let count = u16::from_le_bytes(self.0.get(at + 4..at + 6)?.try_into().ok()?);
        let mut found = Vec::new();
        let mut rest = self.0.get(at + 8..)?;
        for _ in 0..count {
            let head: [u8; 8] = rest.get(..8)?.try_into().ok()?;
            let size = usize::from(u16::from_le_bytes([head[2], head[3]]));
            if head[0] == ALLOWS && head[1] & ONLY_BELOW == 0 {
                let rights = u32::from_le_bytes([head[4], head[5], head[6], head[7]]);
                found.push(Allowed { sid: Sid::from_bytes(rest.get(8..)?)?, rights });
            }
            rest = rest.get(size.max(8)..)?;
        }
        Some(found)
    }

    /// Whether somebody else than these and the system has one of these rights.
    pub fn lets_others(&self, known: &[Sid], rights: u32) -> bool {
        let is_known = |sid: &Sid| known.contains(sid) || sid.is_of_system() || *sid == Sid::OWNER_RIGHTS;
        self.allowed().is_none_or(|all| all.iter().any(|own| own.rights & rights != 0 && !is_known(&own.sid)))
    }
}

fn entry(allowed: &Allowed) -> Vec<u8> {
    let sid = allowed.sid.to_bytes();
    let size = u16::try_from(8 + sid.len()).unwrap_or(u16::MAX);
    let head = [ALLOWS, HANDED_DOWN].into_iter().chain(size.to_le_bytes());
    head.chain(allowed.rights.to_le_bytes()).chain(sid).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_written_is_read_back() {
        let ada: Sid = "S-1-5-21-1-2-3-1001".parse().unwrap();
        let own = Descriptor::only(&[ada, Sid::SYSTEM]);
        let all = own.allowed().unwrap();
        assert_eq!(all, [Allowed { sid: ada, rights: ALL }, Allowed { sid: Sid::SYSTEM, rights: ALL }]);
        assert!(!own.lets_others(&[ada], READS) && own.lets_others(&[], READS));
        let shared = Descriptor::readable(&[ada]);
        assert!(shared.lets_others(&[ada], READS) && !shared.lets_others(&[ada], CHANGES));
        assert_eq!(own.owner(), None);
        let guarded = Descriptor::of_administrators();
        assert_eq!(guarded.owner(), Some(Sid::ADMINISTRATORS));
        assert!(!guarded.lets_others(&[], READS | CHANGES) && guarded.allowed().is_some());
        // Without a list everybody may do everything.
        assert!(Descriptor::from_bytes(vec![1, 0, 0, 0x80, 0, 0, 0, 0]).lets_others(&[ada], CHANGES));
        assert_eq!(Sid::from_bytes(&ada.to_bytes()), Some(ada));
        assert!(ada.is_person() && !Sid::TRUSTED_INSTALLER.is_person() && Sid::TRUSTED_INSTALLER.is_of_system());
    }
}
