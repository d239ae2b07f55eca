//! Findings of many sites that have one cause and one fix.

use std::collections::BTreeMap;

use super::codes::Code;
use super::finding::Finding;
use super::remedy::Remedy;
use crate::name::HostName;

/// Findings with one cause and one fix.
#[derive(Clone, Debug)]
pub struct FindingGroup<'f> {
    /// The first of them.
    pub first: &'f Finding,
    /// The names of the others.
    pub others: Vec<&'f HostName>,
    /// The fix of all of them, if there is one.
    pub remedy: Option<Remedy>,
}

/// Groups findings: those with the same cause, and those of one code that one command fixes. Each group has the place
/// of its first finding.
pub fn grouped<'f>(findings: impl IntoIterator<Item = &'f Finding>) -> Vec<FindingGroup<'f>> {
    let mut groups: Vec<FindingGroup<'_>> = Vec::new();
    let mut last_of: BTreeMap<Code, Vec<usize>> = BTreeMap::new();
    for finding in findings {
        let known = last_of.entry(finding.code()).or_default();
        let at = known.iter().copied().find(|at| are_alike(groups[*at].first, finding));
        if let Some(at) = at {
            let group = &mut groups[at];
            group.others.push(&finding.name);
            group.remedy = common(group.remedy.take(), finding.diagnosis.remedies.first());
        } else {
            known.push(groups.len());
            let remedy = finding.diagnosis.remedies.first().cloned();
            groups.push(FindingGroup { first: finding, others: Vec::new(), remedy });
        }
    }
    groups
}

/// Whether two findings have the same cause, or one fix.
fn are_alike(one: &Finding, other: &Finding) -> bool {
    let fix = |finding: &Finding| finding.diagnosis.remedies.first().cloned();
    one.is_same(other)
        || one.code() == other.code()
            && one.diagnosis.foretold_for == other.diagnosis.foretold_for
            && fix(one).is_some()
            && common(fix(one), fix(other).as_ref()).is_some()
}

/// The one command for two fixes: the same, or that for all sites.
fn common(one: Option<Remedy>, other: Option<&Remedy>) -> Option<Remedy> {
    match (one?, other?) {
        (one, other) if one == *other => Some(one),
        (Remedy::NoProxy(names), Remedy::NoProxy(more)) => {
            let more = more.iter().filter(|name| !names.contains(name)).cloned().collect::<Vec<_>>();
            Some(Remedy::NoProxy([names, more].concat()))
        }
        (one, other) if writes_again(&one) && writes_again(other) => Some(Remedy::Settle),
        _ => None,
    }
}

/// Whether a fix only writes a site again, or all of them.
fn writes_again(remedy: &Remedy) -> bool {
    match remedy {
        Remedy::Map { content: None, options, .. } => options.is_empty(),
        Remedy::Settle => true,
        _ => false,
    }
}
