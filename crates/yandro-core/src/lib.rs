//! The pure part of yandro: bytes and values in, values out.
//!
//! | to do | begin with |
//! |---|---|
//! | read host names as browsers and certificate authorities do | [`HostName`] |
//! | read and edit a site list without changing anything else in it | [`SiteList`], [`set_site`] |
//! | read, check and edit a hosts file | [`HostsFile`], [`lint_hosts`], [`point_name`] |
//! | run through a server's configuration as the server does | [`Software`], [`HttpdRun`], [`NginxRun`] |
//! | issue and check certificates | [`Authority`], [`objections`] |
//! | plan what a command changes, or take it back | [`map_site`], [`settle`], [`undo`] |
//! | turn observations of a site into causes and fixes | [`judge`], [`explain`] |
//!
//! Nothing here reads the disk, the clock, the network or the environment, and nothing prints: these are arguments.
//! The lists in this crate's `clippy.toml` make the build fail where that is forgotten.
//!
//! # Known limitations
//!
//! - Paths and site lists are UTF-8. Hosts files and server configuration may hold any bytes; what is not UTF-8 in them
//!   is kept and matches nothing.
//! - Apache httpd is read as 2.4, nginx as 1.18 and later. Conditions that a request decides (`<If>`, `map`) are not
//!   evaluated.
//! - Other certificates are checked by the rules that Chromium, Firefox and Apple's systems document. Revocation isn't
//!   checked.
//! - macOS is known as data (paths, stores, runtimes), and no plan was applied there; on Windows under Wine only.

mod adopt;
mod check;
mod config;
mod database;
mod host_port;
mod hosts;
mod job;
mod logs;
mod name;
mod network;
mod pack;
mod pki;
mod plan;
mod readdress;
mod server_path;
mod servers;
mod shell;
mod site;
mod source;
mod system;
mod tables;
#[cfg(test)]
mod tests;
mod web_url;

pub use adopt::{BlockAddress, BlockReading, Brought, CutFile, Fate, HandServer, HandSite, ReadLine, hand_sites};
pub use check::{
    Answer, AnsweringHost, Barrier, Beside, Cause, CertificateFault, Chain, CheckStep, Circumstances, Code,
    ConfigurationRefusal, Configured, Connection, DeniedBy, Diagnosis, Evidence, Expected, Failure, FailureKind,
    FileFault, FileFaults, Finding, FindingGroup, FindingText, Forbidden, HostsAnswer, HostsFault, IndexFault, LogLine,
    MapOption, NameCommand, NameObservation, NameReport, Offers, OtherName, OverrideRefusal, OwnAddress, PROOF_FILE,
    Page, Patience, PhpFacts, PhpState, PortHolder, Proof, REDIRECT_PROBE, RedirectSource, RedirectTarget, Remedy,
    RequestedPage, ResolverAnswer, ResolverSetup, SafeFix, ServerVerb, Setting, Severity, Silence, SilenceReason,
    SiteFileState, SiteReport, SourceReason, StepOutcome, StepPart, StepReport, StoreStanding, TenantsSetup, Timed,
    Trail, UnexpectedFolder, Unresolved, UpstreamFault, Verdict, explain, findings_page, grouped, judge, other_ports,
    target as redirect_target,
};
pub use config::{
    Answering, Argument, ConfigFault, Dialect, Directive, FileOwner, Files, HandEdit, Journal, KnownLayout, KnownLinks,
    Layout, LayoutDisk, Links, Node, OTHERS, Others, ParseError, PathError, PathPair, PathPairError, PathView, Place,
    Published, PublishedPort, PublishedPortError, Section, Seen, ServerTraits, SiteFiles, Switched, Syntax, Tree,
    Variable, VirtualHost, Want, asked_at, brought_back, list_of, others_certificate, site_file,
};
pub use database::{
    DatabaseAddress, DatabaseAddressError, DatabaseKind, DatabasePlace, DatabaseTable, DumpLines, NewDatabase,
    Statement, TextChange, connection_lines, database_catalogue, database_name, database_tables, named_databases,
    with_database,
};
pub use host_port::HostPort;
pub use hosts::{
    AddressFamily, Conflict, EditError, HostsEntry, HostsFile, HostsRow, LintCode, LintContext, LintFinding,
    LintWeight, Mapping, Multi, OwnBlockError, OwnLine, Pointed, Sorting, TakeOver, as_hosts, as_zone, common_zone,
    drop_names as drop_hosts_names, fixed as fixed_hosts, lint as lint_hosts, names_for_others,
    own_lines as own_hosts_lines, point as point_name, remove_lines as remove_hosts_lines, rows as hosts_rows,
    set_line as set_hosts_line, set_lines as set_hosts_lines, with_own_lines as with_own_hosts_lines,
};
pub use job::{Job, When};
pub use logs::{AccessLog, LogEntry, LogEvent, TookField, access_entry, error_entry};
pub use name::{HostName, NameError, Suffix};
pub use network::IpNet;
pub use pack::{PROJECT as PACK_PROJECT, PackError, PackRequest, Packed, PackedFile, pack as pack_site};
pub use pki::{
    Authority, AuthorityCertificates, CertificateDer, CertificateFacts, CertificateFiles, Constraints, JavaStore, Key,
    KeyKind, LEAF_DAYS, Leaf, LeafRequest, NetworkError, NewAuthority, NotVetted, Objection, PkiError, Profile,
    RENEW_DAYS, Serial, Sha1, SigningRequest, Variables, certificate_bundle, create_authority, date, mobile_profile,
    objections, trust_lines, trust_variables, vetted_root,
};
pub use plan::{
    Access, Adoption, Applied, AuthorityFiles, AuthorityTexts, Change, ChangeSet, ChangedLines, DoneStep, FileChange,
    FileContent, Fresh, HostsByName, Issued, LinkChange, Observed, Opened, Orphans, OwnFiles, Phase, Places, PlanError,
    PlanFailure, Pools, Reading, Resolver, Rights, RightsChange, Role, RowsChange, ServerModel, Settlement, SiteChange,
    Step, TrustChange, UndoError, Undoing, Wish, WishLists, Wishes, adopt_site, answered_tenants, changed_lines,
    is_own_pool, issued_paths, map_site, map_sites, note_issued, pool_of_file, rename_site, renew, replace_authority,
    reversed, settle, undo, unified_diff, unmap_sites, with_removed_lines,
};
pub use readdress::{AppAddress, AppAddressError, Readdressed, readdress};
pub use server_path::ServerPath;
pub use servers::httpd::run::{Event, EventKind, HttpdRun, Listen, by_address, environment as httpd_environment};
pub use servers::httpd::{Activation, HttpdShared, Lack, ModuleFiles, Needs, parse as parse_httpd};
pub use servers::nginx::run::{ListenOn, NginxRun, ServerBlock, answering_name};
pub use servers::nginx::{NginxShared, parse as parse_nginx};
pub use servers::{
    Configuration, ControlProgram, Image, Listener, Loopback6, ProjectRules, Rule, RuleEffect, Seeing, ServerKind,
    ServerReport, Software, Start,
};
pub use shell::{Shell, word as shell_word};
pub use site::{
    Caching, CertificateTerms, Content, DEFAULT_ADDRESS, FastCgi, Group, Http2, Https, InvalidValue, ListError, ListId,
    Listing, Logs, MapArgument, OPTIONS, Overrides, PROJECT_FILE, ProjectSite, Scheme, ServerFacts, ServerId,
    ServerName, ServerNameError, Serving, Site, SiteList, SiteOption, SitePatch, SiteRefusal, SiteStep, SiteVariable,
    Symlinks, Upstream, UpstreamError, UpstreamHost, ValueForm, VariableValue, options_page, project_sites, set_site,
    site_steps, with_own_choices,
};
pub use source::{Excerpt, Position, common_ends};
pub use system::{
    BROWSER_STORES, Cache, CommandLine, Hidden, HostsMaker, JAVA_FOLDERS, JAVA_OF_SYSTEM, JAVA_SOURCE, JAVA_STORES,
    NEW_BROWSER_STORE, NOT_INSTALLED, PhpPool, RUNTIMES, ResolverPlace, Runtime, Sandbox, StoreKind, StorePrograms,
    Surroundings, System, TrustStore, is_own_nickname, nickname, php_pools, windows_words,
};
pub use tables::{Value as TomlValue, remove as remove_table, set as set_table, text_of as table_text};
pub use web_url::{WebUrl, WebUrlError};
