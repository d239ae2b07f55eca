//! The hosts file of 200,000 lines: `cargo bench -p yandro-core --bench hosts`.

use divan::Bencher;
use divan::counter::BytesCount;
use yandro_core::{
    AddressFamily, HostName, HostsFile, Mapping, Multi, Sorting, TakeOver, drop_hosts_names, hosts_rows, point_name,
};

#[global_allocator]
static ALLOCATIONS: divan::AllocProfiler = divan::AllocProfiler::system();

fn main() {
    divan::main();
}

/// About 7 MB: block lists have such files.
fn large() -> Vec<u8> {
    let mut text = String::from("127.0.0.1 localhost\n");
    for number in 0..200_000 {
        text += &format!("0.0.0.0 boat{number:06}.tides.test\n");
    }
    text += "127.0.0.1 saltmarsh.test\n";
    text.into_bytes()
}

fn name(text: &str) -> HostName {
    HostName::parse(text).expect("it is a name")
}

fn measure<T>(bencher: Bencher<'_, '_>, work: impl Fn(&[u8]) -> T + Sync) {
    let text = large();
    bencher.counter(BytesCount::of_slice(&text)).bench(|| work(divan::black_box(&text)));
}

/// The lower bound: every line end found and nothing else done.
#[divan::bench]
fn memchr_alone(bencher: Bencher<'_, '_>) {
    measure(bencher, |text| memchr::memchr_iter(b'\n', text).count());
}

#[divan::bench]
fn all_entries(bencher: Bencher<'_, '_>) {
    measure(bencher, |text| HostsFile::parse(text).entries().count());
}

#[divan::bench]
fn one_lookup(bencher: Bencher<'_, '_>) {
    let name = name("saltmarsh.test");
    measure(bencher, |text| HostsFile::parse(text).lookup(&name, AddressFamily::Any, Multi::On));
}

#[divan::bench]
fn one_edit(bencher: Bencher<'_, '_>) {
    let site =
        Mapping { addresses: vec!["127.0.0.1".parse().expect("it is one")], names: vec![name("depot.saltmarsh.test")] };
    measure(bencher, |text| {
        point_name(text, &list(), &site, &[], TakeOver::No).expect("nothing is in the way").into_owned()
    });
}

#[divan::bench]
fn one_removal(bencher: Bencher<'_, '_>) {
    let site =
        Mapping { addresses: vec!["127.0.0.1".parse().expect("it is one")], names: vec![name("depot.saltmarsh.test")] };
    let text = point_name(&large(), &list(), &site, &[], TakeOver::No).expect("nothing is in the way").into_owned();
    bencher
        .counter(BytesCount::of_slice(&text))
        .bench(|| drop_hosts_names(divan::black_box(&text), &list(), &site.names).into_owned());
}

#[divan::bench]
fn the_list_with_what_is_shadowed(bencher: Bencher<'_, '_>) {
    measure(bencher, |text| {
        hosts_rows(&HostsFile::parse(text), Sorting { multi: Multi::On, is_usable: &|_| true }).len()
    });
}

fn list() -> yandro_core::ListId {
    yandro_core::ListId::new("ada", "/home/ada/.config/yandro/sites.toml".into())
}
