//! Services, as the registry has them.

use std::io;
use std::ptr;

use windows_sys::Win32::System::Registry::{
    HKEY, HKEY_LOCAL_MACHINE, KEY_READ, RRF_RT_REG_SZ, RegCloseKey, RegEnumKeyExW, RegGetValueW, RegOpenKeyExW,
};

use super::{checked_code, length, text, wide};

/// A key of the registry, open for reading.
struct Key(HKEY);

impl Key {
    fn open(path: &str) -> io::Result<Self> {
        let path = wide(path);
        let mut key: HKEY = ptr::null_mut();
        // SAFETY: the path ends with a zero; the result is written to a variable of the right type.
        checked_code(unsafe { RegOpenKeyExW(HKEY_LOCAL_MACHINE, path.as_ptr(), 0, KEY_READ, &raw mut key) })?;
        Ok(Self(key))
    }

    /// The name of the key of this number below it; `None` after the last.
    fn name(&self, number: u32) -> Option<String> {
        let mut name = [0_u16; 257];
        let mut size = length(&name);
        let (none, nothing) = (ptr::null_mut(), ptr::null());
        // SAFETY: the key is open; the buffer has the length that is passed; nothing else is asked for.
        let code = unsafe {
            RegEnumKeyExW(
                self.0,
                number,
                name.as_mut_ptr(),
                &raw mut size,
                nothing,
                none,
                ptr::null_mut(),
                ptr::null_mut(),
            )
        };
        (code == 0).then(|| text(&name))
    }

    /// A text of a key below it, with variables in it replaced.
    fn text(&self, below: &str, value: &str) -> Option<String> {
        let (below, value) = (wide(below), wide(value));
        let mut found = vec![0_u16; 4096];
        let mut size = u32::try_from(found.len() * 2).unwrap_or(0);
        // The system replaces variables by itself when it is asked for a plain text.
        let kinds = RRF_RT_REG_SZ;
        let out = found.as_mut_ptr().cast();
        // SAFETY: the key is open; both names end with zeros; the buffer has the length that is passed.
        let code =
            unsafe { RegGetValueW(self.0, below.as_ptr(), value.as_ptr(), kinds, ptr::null_mut(), out, &raw mut size) };
        (code == 0).then(|| text(&found))
    }
}

impl Drop for Key {
    fn drop(&mut self) {
        // SAFETY: the key is ours, and nobody uses it any more.
        unsafe { RegCloseKey(self.0) };
    }
}

/// Every service with its command line.
pub fn all() -> Vec<(String, String)> {
    let Ok(services) = Key::open(r"SYSTEM\CurrentControlSet\Services") else { return Vec::new() };
    let names = (0..).map_while(|number| services.name(number));
    names.filter_map(|name| services.text(&name, "ImagePath").map(|line| (name, line))).collect()
}
