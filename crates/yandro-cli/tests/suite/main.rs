//! The built program, tried as its users run it: on temporary folders, and on real
//! servers, browsers and resolvers in private namespaces.

#![allow(
    unreachable_pub,
    clippy::print_stderr,
    clippy::unwrap_used,
    clippy::too_many_lines,
    reason = "tests: skips are told on standard error, and whole outputs stand in them"
)]

mod adopt;
mod apache;
#[cfg(feature = "databases")]
mod applications;
mod authority;
mod background;
mod bad_input;
mod browser;
mod built_in;
mod built_in_attacks;
mod built_in_files;
mod built_in_php;
mod causes;
mod certificates;
mod check_views;
mod clients;
mod comforts;
mod containers;
mod crash;
#[cfg(feature = "databases")]
mod databases;
mod declared;
mod demo;
mod dev_server;
mod each;
mod elsewhere;
mod foreign;
mod harbour;
mod healthy;
mod helper_attacks;
mod helper_requests;
mod history;
mod hosts;
mod instructions;
mod kit;
mod layouts;
mod lend;
mod logs;
mod namespace;
mod network_change;
mod nginx;
mod pack;
mod package;
mod pools;
mod privilege;
mod reach;
mod readdress;
mod robust;
mod safety;
mod servers;
mod serving;
mod setup;
mod steps;
mod sysroot;
mod systemd;
mod tenants;
mod under_sudo;
mod undoing;
mod uninstall;
mod vhosts;
