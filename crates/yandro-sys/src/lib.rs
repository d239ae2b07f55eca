//! System calls for which no kept crate has a safe wrapper: the only crate of yandro's with `unsafe`. Every block says why
//! it is sound.
//!
//! - [`macos`]: groups of a process, which differ there from other Unix systems; what a process is.
//! - [`windows`]: users and rights, processes, sockets and interfaces, certificate stores.

#[cfg(target_os = "macos")]
pub mod macos;
#[cfg(windows)]
pub mod windows;
