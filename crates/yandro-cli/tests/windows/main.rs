//! yandro on Windows, as its users run it: on a Windows that is only there for this test (`YANDRO_TEST_MACHINE`), since
//! its hosts file and its root store are changed. `scripts/test-systems` makes one by Wine.
#![cfg(windows)]

mod apache;
mod built_in;
mod hosts;
mod interruptions;
mod machine;
mod nginx;
