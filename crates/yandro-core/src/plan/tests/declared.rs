//! A site list that is edited, and brought about by `settle`.

use super::*;
use crate::site::{remove_sites, replace_site, set_site};

/// An edit by hand.
#[derive(Clone, Debug)]
enum Edit {
    /// A site comes, or has other options.
    Set(Box<Site>),
    /// A site has another name.
    Rename(usize, usize),
    /// A site goes.
    Remove(usize),
    /// Two sites change places in the list.
    Swap,
    /// A line of the person's own in every virtual host of a site.
    Line(usize),
    /// A line of yandro's that a person changes.
    Change(usize),
}

fn edit() -> impl Strategy<Value = Edit> {
    prop_oneof![
        6 => site().prop_map(|site| Edit::Set(Box::new(site))),
        3 => (0..3usize, 0..3usize).prop_map(|(from, to)| Edit::Rename(from, to)),
        2 => (0..3usize).prop_map(Edit::Remove),
        1 => Just(Edit::Swap),
        2 => (0..3usize).prop_map(Edit::Line),
        2 => (0..3usize).prop_map(Edit::Change),
    ]
}

/// The line of the person's own, and the end of a virtual host that it goes before.
fn own_line(server: Option<ServerId>) -> (&'static str, &'static str) {
    if server == Some(ServerId::APACHE) {
        ("\tSetEnv TIDE high\n", "</VirtualHost>")
    } else {
        ("\tset $tide high;\n", "\n}")
    }
}

impl Disk {
    /// A site's file, with the text in it.
    fn site_text(&mut self, name: &HostName) -> Option<&mut Vec<u8>> {
        let paths: Vec<Utf8PathBuf> = {
            let observed = self.observe();
            observed.configured().iter().map(|server| server.own().layout.site_file(name)).collect()
        };
        let path = paths.into_iter().find(|path| self.files.contains_key(path))?;
        self.files.get_mut(&path)
    }

    /// Edits the list or a site's file; gives the name of a site that has a line of the person's own by that.
    fn edit(&mut self, edit: &Edit) -> Option<(usize, &'static str)> {
        let path = places().site_list();
        let (text, list) = (self.text(&path).unwrap_or_default(), self.list());
        let at = |which: &usize| name(NAMES[*which]);
        let edited = match edit {
            Edit::Set(site)
                if site.names().all(|name| list.owner(name).is_none_or(|owner| owner.name == site.name)) =>
            {
                set_site(&text, site, None)
            }
            Edit::Rename(from, to) => {
                let site = list.site(&at(from)).filter(|_| list.owner(&at(to)).is_none())?;
                replace_site(&text, &at(from), &Site { name: at(to), ..site.clone() }, None)
            }
            Edit::Remove(which) => remove_sites(&text, &[&at(which)]),
            Edit::Swap => {
                let first = list.sites.first()?;
                set_site(&remove_sites(&text, &[&first.name]), first, None)
            }
            Edit::Line(which) | Edit::Change(which) => {
                let server = list.site(&at(which)).and_then(|site| site.server);
                let file = self.site_text(&at(which))?;
                let text = String::from_utf8(file.clone()).unwrap();
                let (line, end) = own_line(server);
                let (new, mark) = match edit {
                    Edit::Line(_) if !text.contains(line) => {
                        (text.replace(end, &format!("\n{line}{}", end.trim_start())), line)
                    }
                    Edit::Change(_) => (
                        text.replace("DirectoryIndex tide.html", "DirectoryIndex ebb.html")
                            .replace("index tide.html;", "index ebb.html;"),
                        "ebb.html",
                    ),
                    _ => return None,
                };
                let is_changed = new != text;
                *file = new.into_bytes();
                return is_changed.then_some((*which, mark));
            }
            Edit::Set(_) => return None,
        };
        self.files.insert(path, edited.into_bytes());
        None
    }
}

proptest! {
    #![proptest_config(crate::tests::cases(64))]

    /// Whatever is edited in a list, `settle` brings about, once; what is edited in the files stays, and is named; and
    /// taking the change back gives the machine as it was, with the list as the person left it.
    #[test]
    fn an_edited_list_is_brought_about(layout in 0..LAYOUTS.len(), edits in proptest::collection::vec(edit(), 8..16)) {
        let mut disk = Disk::new(layout);
        for edit in &edits {
            let own = disk.edit(edit);
            let (before, list) = (disk.clone(), disk.list());
            let settled = |disk: &Disk| settle(&mut disk.observe(), &list, ServerId::APACHE, Orphans::Removed, &mut Random);
            let settlement = match settled(&disk) {
                Ok(settlement) => settlement,
                // A virtual host with a line of the person's own doesn't go by itself.
                Err(PlanFailure { error, .. }) => {
                    prop_assert!(matches!(*error, PlanError::SiteFile { .. }), "{:?}", error);
                    return Ok(());
                }
            };
            let is_named = |name: &HostName| settlement.edited.iter().any(|(own, edit)| own == name && edit.found.as_ref().is_some_and(|found| found.contains("ebb.html")));
            disk.carry_out(&settlement.set);
            // A line that was edited and that the list dropped is named by the settle that finds it so.
            for change in &settlement.set.sites {
                if let (Some(was), Some(site)) = (&change.before, &change.after)
                    && !was.serving.index.is_empty()
                    && site.serving.index.is_empty()
                    && disk.site_text(&site.name).is_some_and(|text| String::from_utf8_lossy(text).contains("ebb.html"))
                {
                    prop_assert!(is_named(&site.name), "{:?}", settlement.edited);
                }
            }
            let again = settled(&disk).unwrap();
            prop_assert!(again.set.is_empty(), "{:?}: {}", edit, shown(&again.set));
            prop_assert_eq!(disk.observe().applied.sites().clone(), list.clone());
            if let Some((which, mark)) = own {
                let text = String::from_utf8(disk.site_text(&name(NAMES[which])).unwrap().clone()).unwrap();
                prop_assert!(text.contains(mark), "{}", text);
                prop_assert_eq!(mark == "ebb.html", again.edited.iter().any(|(_, edit)| edit.found.as_ref().is_some_and(|found| found.contains(mark))));
            }
            // A file that nobody edited has the lines of a new one.
            for site in &list.sites {
                let edited = again.edited.iter().any(|(name, _)| *name == site.name);
                let text = disk.site_text(&site.name).cloned().unwrap_or_default();
                let text = String::from_utf8(text).unwrap();
                if !edited && !text.contains("ebb.html") && !text.contains("TIDE high") && !text.contains("$tide high") && site.server.is_some_and(ServerId::is_configured) {
                    let mut fresh = Disk::new(layout);
                    fresh.carry_out(&map_site(&fresh.observe(), &SiteList::default(), site, &mut Random).unwrap());
                    let fresh = fresh.site_text(&site.name).unwrap().clone();
                    let lines = |text: &str| {
                        let mut lines: Vec<String> =
                            text.lines().filter(|line| !line.is_empty()).map(str::to_owned).collect();
                        lines.sort();
                        lines
                    };
                    prop_assert_eq!(lines(&text), lines(&String::from_utf8(fresh).unwrap()));
                }
            }
            let steps: Vec<DoneStep> = settlement.set.steps.iter().rev().map(inverse).collect();
            let undoing = Undoing { sites: &settlement.set.sites, steps: &steps, leftovers: &[], is_last: true };
            let back = undo(disk.observe(), &list, &undoing, &mut Random).unwrap();
            let mut undone = disk.clone();
            undone.carry_out(&back);
            let plain = |disk: &Disk| -> Disk {
                let files = disk.files.iter().filter(|(path, _)| !path.starts_with(places().data) || **path == places().applied());
                Disk { files: files.map(|(path, bytes)| (path.clone(), bytes.clone())).collect(), links: disk.links.clone() }
            };
            prop_assert_eq!(difference(&plain(&undone), &plain(&before)), "");
        }
    }
}

#[test]
fn a_new_name_takes_its_file_along() {
    let mut disk = Disk::new(0);
    let site = |which: usize| Site {
        server: Some(ServerId::APACHE),
        ..Site::new(name(NAMES[which]), Content::folder("/srv/saltmarsh"))
    };
    disk.carry_out(&map_site(&disk.observe(), &SiteList::default(), &site(0), &mut Random).unwrap());
    disk.edit(&Edit::Line(0)).unwrap();
    disk.edit(&Edit::Rename(0, 1));
    let list = disk.list();
    let settlement = settle(&mut disk.observe(), &list, ServerId::APACHE, Orphans::Removed, &mut Random).unwrap();
    assert_eq!(settlement.renamed, [(name(NAMES[0]), name(NAMES[1]))]);
    assert!(settlement.orphans.is_empty());
    disk.carry_out(&settlement.set);
    let text = String::from_utf8(disk.site_text(&name(NAMES[1])).unwrap().clone()).unwrap();
    assert!(text.contains("SetEnv TIDE high") && !text.contains("\t\tServerName saltmarsh.test"), "{text}");
    assert!(text.starts_with("# depot.saltmarsh.test: a site of ada"), "{text}");
    assert!(!text.contains("/saltmarsh.test"), "its logs and certificate have the new name: {text}");
    assert!(disk.site_text(&name(NAMES[0])).is_none());
    let hosts = disk.text(Utf8Path::new("/etc/hosts")).unwrap();
    assert!(hosts.contains("\tdepot.saltmarsh.test\n") && !hosts.contains("\tsaltmarsh.test"), "{hosts}");
}
