//! Reading and writing the site list: every command does it.

use divan::{Bencher, black_box};
use yandro_core::{Content, HostName, ServerId, Site, SiteList, set_site};

fn main() {
    divan::main();
}

fn site(number: usize) -> Site {
    let name = HostName::parse(&format!("boat{number}.saltmarsh.test")).expect("it is a name");
    let alias = HostName::parse(&format!("www.boat{number}.saltmarsh.test")).expect("it is a name");
    let content = Content::folder(format!("/home/ada/boats/{number}"));
    let mut site = Site { aliases: vec![alias], server: Some(ServerId::APACHE), ..Site::new(name, content) };
    site.serving.only_here = true;
    site
}

fn list(sites: usize) -> String {
    (0..sites).fold(String::new(), |text, number| {
        let one = set_site("", &site(number), None);
        text + one.trim_start_matches(|c| c != '[')
    })
}

#[divan::bench(args = [1, 20, 1000])]
fn read(bencher: Bencher<'_, '_>, sites: usize) {
    let text = list(sites);
    assert_eq!(SiteList::parse(&text, None).expect("it is a list").sites.len(), sites);
    bencher.bench(|| SiteList::parse(black_box(&text), None));
}

#[divan::bench(args = [1, 20, 1000])]
fn change_the_last(bencher: Bencher<'_, '_>, sites: usize) {
    let text = list(sites);
    let changed = Site { aliases: Vec::new(), ..site(sites - 1) };
    bencher.bench(|| set_site(black_box(&text), &changed, None));
}
