//! The output of `yandro adopt`.

use yandro_core::{Fate, HandSite, ReadLine};

use super::{Adopted, Candidate};
use crate::commands::map::proof_line;
use crate::context::Context;
use crate::error::{CommandError, Status};
use crate::view::change::{self, labelled, server_lines};
use crate::view::check::{FindingData, finding_data, finding_text};
use crate::view::{COMMAND, Cell, DIM, Data, GOOD, Outcome, STRONG, Table, Ui, WARN, count, data};

data! {
    /// Data of `yandro adopt` without names.
    struct HandSites {
        sites: Vec<HandSiteData>,
    }

    /// A site that was written by hand.
    struct HandSiteData {
        name: String,
        aliases: Vec<String>,
        server: String,
        /// Its folder or upstream.
        content: Option<String>,
        /// Why it can't be taken over.
        refused: Option<String>,
        /// The other person whose folder it serves: `--all` leaves it.
        folder_of: Option<String>,
        virtual_hosts: Vec<HandHostData>,
    }

    /// A virtual host of such a site.
    struct HandHostData {
        file: String,
        line: usize,
        lines: Vec<HandLineData>,
    }

    /// A line of it.
    struct HandLineData {
        line: usize,
        text: String,
        /// `understood`, `kept` or `left`.
        fate: &'static str,
        /// The part of the site that it becomes, or why it goes.
        what: Option<String>,
    }

    /// Data of `yandro adopt` with names.
    struct AdoptedSites {
        sites: Vec<AdoptedData>,
        /// With `--all`: the sites that stay as they are.
        refused: Vec<RefusedData>,
    }

    /// A site that stays as it is.
    struct RefusedData {
        site: String,
        why: String,
    }

    /// A site that was taken over.
    struct AdoptedData {
        site: String,
        url: String,
        content: String,
        /// The paths that were changed.
        changed: Vec<String>,
        understood: usize,
        kept: usize,
        left: usize,
        /// How many requests are answered as before.
        same_answers: usize,
        proven: bool,
        findings: Vec<FindingData>,
    }
}

impl Data for HandSites {}
impl Data for AdoptedSites {}

/// The hand-written sites, in a table.
pub(super) fn overview(all: Vec<Candidate<'_>>) -> Outcome<'_> {
    let data = HandSites { sites: all.iter().map(site_data).collect() };
    Outcome::new(data, move |_, ui| show_overview(&all, ui))
}

fn show_overview(all: &[Candidate<'_>], ui: &mut Ui) {
    if all.is_empty() {
        ui.say("No site was written by hand: every virtual host is yandro's.");
        return;
    }
    let mut table = Table::new(&["SITE", "SERVER", "SERVES", "WHERE", "CAN BE TAKEN OVER"]).least(&["SERVER"]);
    for Candidate { hand, others, .. } in all {
        let places: Vec<String> = hand.blocks.iter().map(|(place, _)| place.to_string()).collect();
        let (content, can) = match &hand.site {
            Ok(site) => (
                site.content.to_string(),
                match others {
                    Some(person) => Cell::new(format!("only by name: the folder belongs to {person}"), WARN),
                    None => Cell::new("yes", GOOD),
                },
            ),
            Err(why) => ("–".to_owned(), Cell::new(format!("no: {why}"), WARN)),
        };
        let server = Cell::plain(hand.server.word());
        let first = places.first().cloned().unwrap_or_default();
        let is_named = !hand.name.contains('/');
        let name = if is_named { Cell::new(&hand.name, STRONG) } else { Cell::new("(no name)", DIM) };
        table.row(vec![name, server, Cell::plain(content), Cell::new(first, DIM), can]);
        for place in places.iter().skip(1) {
            table.row(vec![Cell::plain(""), Cell::plain(""), Cell::plain(""), Cell::new(place, DIM), Cell::plain("")]);
        }
    }
    ui.table(&table);
    let Some(first) = all.iter().find(|own| own.hand.site.is_ok() && own.others.is_none()) else { return };
    let name = &first.hand.name;
    ui.say(&format!(
        "\nsee what becomes of each line: {COMMAND}yandro adopt {name} --preview{COMMAND:#}\ntake it over:                  {COMMAND}yandro adopt {name}{COMMAND:#} (all of them: --all)"
    ));
}

fn site_data(Candidate { hand, others, .. }: &Candidate<'_>) -> HandSiteData {
    let site = hand.site.as_ref().ok();
    HandSiteData {
        name: hand.name.clone(),
        aliases: site.map(|site| site.aliases.iter().map(ToString::to_string).collect()).unwrap_or_default(),
        server: hand.server.word().to_owned(),
        content: site.map(|site| site.content.to_string()),
        refused: hand.site.as_ref().err().cloned(),
        folder_of: others.clone(),
        virtual_hosts: hand
            .blocks
            .iter()
            .map(|(place, reading)| HandHostData {
                file: place.file.clone(),
                line: place.line,
                lines: reading.lines.iter().map(line_data).collect(),
            })
            .collect(),
    }
}

fn line_data(read: &ReadLine) -> HandLineData {
    let (fate, what) = match &read.fate {
        Fate::Understood(part) => ("understood", Some((*part).to_owned())),
        Fate::Kept => ("kept", None),
        Fate::Left(why) => ("left", Some((*why).to_owned())),
    };
    HandLineData { line: read.line, text: read.text.clone(), fate, what }
}

/// Whether one of its virtual hosts speaks TLS.
pub(super) fn has_tls(hand: &HandSite) -> bool {
    hand.blocks.iter().any(|(_, reading)| reading.addresses.iter().any(|own| own.is_secure))
}

/// Each line of a site with its fate.
pub(super) fn lines(hand: &HandSite) -> String {
    let mut text = String::new();
    for (place, reading) in &hand.blocks {
        text += &format!("{STRONG}{}{STRONG:#} in {}\n", hand.name, place.file);
        let width = reading.lines.iter().map(|own| own.text.chars().count().min(WIDEST)).max().unwrap_or(0);
        for read in &reading.lines {
            let short: String = read.text.chars().take(WIDEST).collect();
            let fate = match &read.fate {
                Fate::Understood(part) => format!("{GOOD}understood{GOOD:#}: {part}"),
                Fate::Kept => format!("{DIM}stays word for word{DIM:#}"),
                Fate::Left(why) => format!("{WARN}goes{WARN:#}: {why}"),
            };
            text += &format!("  {:>4}  {short:<width$}  {fate}\n", read.line);
        }
    }
    text
}

/// How much of a line is shown.
const WIDEST: usize = 60;

/// The lines of several sites with their fates.
pub(super) fn previewed(all: Vec<Candidate<'_>>, refused: Vec<(String, CommandError)>) -> Outcome<'_> {
    let data = HandSites { sites: all.iter().map(site_data).collect() };
    let status = if refused.is_empty() { Status::Well } else { Status::Findings };
    Outcome::new(data, move |_, ui| {
        for Candidate { hand, .. } in &all {
            ui.print(&lines(hand));
        }
        show_refused(&refused, ui);
        let first = all.first().map(|own| own.hand.name.as_str()).unwrap_or_default();
        ui.print(&format!("Nothing was changed: this was a preview. See every change of a site: {COMMAND}yandro adopt {first} --preview{COMMAND:#}"));
    })
    .with(status)
}

fn show_refused(refused: &[(String, CommandError)], ui: &mut Ui) {
    for (name, why) in refused {
        ui.print(&format!("{WARN}!{WARN:#} {STRONG}{name}{STRONG:#} stays as it is: {}", why.message));
    }
}

/// The sites that were taken over.
pub(super) fn adopted<'c>(
    context: &'c Context,
    all: Vec<(Candidate<'c>, Adopted)>,
    refused: Vec<(String, CommandError)>,
) -> Outcome<'c> {
    let data = AdoptedSites {
        sites: all.iter().map(|(hand, own)| adopted_data(context, hand, own)).collect(),
        refused: refused
            .iter()
            .map(|(name, why)| RefusedData { site: name.clone(), why: why.message.clone() })
            .collect(),
    };
    let is_well = refused.is_empty() && all.iter().all(|(_, own)| own.proof.findings().is_empty());
    let status = if is_well { Status::Well } else { Status::Findings };
    Outcome::new(data, move |_, ui| {
        for (hand, own) in &all {
            show(context, hand, own, ui);
        }
        show_refused(&refused, ui);
    })
    .with(status)
}

/// How many lines are understood, kept and left.
fn counts(hand: &HandSite) -> [usize; 3] {
    let all = || hand.blocks.iter().flat_map(|(_, reading)| &reading.lines);
    let of = |is: fn(&Fate) -> bool| all().filter(|own| is(&own.fate)).count();
    [
        of(|fate| matches!(fate, Fate::Understood(_))),
        of(|fate| *fate == Fate::Kept),
        of(|fate| matches!(fate, Fate::Left(_))),
    ]
}

fn adopted_data(context: &Context, hand: &Candidate<'_>, own: &Adopted) -> AdoptedData {
    let site = &own.done.about;
    let [understood, kept, left] = counts(&hand.hand);
    AdoptedData {
        site: site.name.to_string(),
        url: context.url(site),
        content: site.content.to_string(),
        changed: change::paths(&own.done.set),
        understood,
        kept,
        left,
        same_answers: own.compared.same,
        proven: own.proof.is_proven(),
        findings: own.proof.findings().iter().map(finding_data).collect(),
    }
}

fn show(context: &Context, hand: &Candidate<'_>, own: &Adopted, ui: &mut Ui) {
    let site = &own.done.about;
    let [understood, kept, left] = counts(&hand.hand);
    let gone = if left > 0 { format!(", {left} left out") } else { String::new() };
    ui.say(&format!("{STRONG}{}{STRONG:#} -> {}: taken over", site.name.to_unicode(), site.content));
    let mut lines = vec![("your lines", format!("{understood} understood, {kept} kept word for word{gone}"))];
    lines.extend(change::summary(&own.done.set, &context.machine.places));
    lines.extend(server_lines(&own.done.set, &own.done.servers));
    if own.compared.same > 0 {
        lines.push(("answers", format!("{} as before", count(own.compared.same, "request"))));
    }
    lines.push(("proof", proof_line(site, &context.url(site), &own.proof)));
    ui.say(&labelled(&lines));
    for finding in own.proof.findings() {
        ui.print(&finding_text(finding, ui.verbose));
    }
    let certificates = hand.hand.blocks.iter().filter_map(|(_, reading)| reading.certificate.as_ref());
    for certificate in certificates {
        ui.note(&format!("the certificate {certificate} is used no more by this site; it stays where it is"));
    }
}
