//! Reports as XML as build servers read it: a suite for each site, a case for each step of
//! each name.

use yandro_core::{SiteReport, StepOutcome};

use super::MARK;

/// The whole document. `at` is when it was seen, RFC 3339.
pub(crate) fn junit(reports: &[SiteReport], at: &str) -> String {
    let mut suites = String::new();
    let (mut tests, mut failures) = (0, 0);
    for report in reports {
        let mut cases = String::new();
        let (mut own_tests, mut own_failures, mut own_skipped, mut seconds) = (0, 0, 0, 0.0);
        for name in &report.names {
            for step in &name.steps {
                let took = step.took.as_secs_f64();
                let word = serde_json::to_value(step.step)
                    .ok()
                    .and_then(|word| word.as_str().map(str::to_owned))
                    .unwrap_or_default();
                let head = format!(
                    "    <testcase classname=\"{}\" name=\"{word}\" time=\"{took:.4}\"",
                    escaped(name.name.as_str())
                );
                own_tests += 1;
                seconds += took;
                match step.outcome {
                    StepOutcome::Failed => {
                        own_failures += 1;
                        cases += &format!("{head}><failure message=\"{}\"/></testcase>\n", escaped(&step.detail));
                    }
                    StepOutcome::Stopped(_) | StepOutcome::NotNeeded => {
                        own_skipped += 1;
                        cases += &format!("{head}><skipped/></testcase>\n");
                    }
                    StepOutcome::Passed | StepOutcome::Warned => cases += &format!("{head}/>\n"),
                }
            }
        }
        let told: String = report
            .findings
            .iter()
            .map(|finding| {
                let finding = finding.text();
                let seen = finding.evidence.as_ref().map(|seen| format!("\n  seen: {seen}")).unwrap_or_default();
                let fix: String = finding.remedies().map(|fix| format!("\n  fix: {fix}")).collect();
                format!("{} {}: {}{seen}{fix}\n", finding.code.word(), finding.name, finding.cause)
            })
            .collect();
        let out =
            if told.is_empty() { String::new() } else { format!("    <system-out>{}</system-out>\n", escaped(&told)) };
        suites += &format!(
            "  <testsuite name=\"{}\" timestamp=\"{at}\" tests=\"{own_tests}\" failures=\"{own_failures}\" errors=\"0\" skipped=\"{own_skipped}\" time=\"{seconds:.4}\">\n{cases}{out}  </testsuite>\n",
            escaped(report.site.name.as_str())
        );
        tests += own_tests;
        failures += own_failures;
    }
    format!(
        "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<testsuites name=\"{MARK}\" tests=\"{tests}\" failures=\"{failures}\">\n{suites}</testsuites>\n"
    )
}

/// Text between tags and in attributes (XML 1.0, section 2.4); what XML can't hold is left out.
pub(super) fn escaped(text: &str) -> String {
    let is_kept = |c: &char| matches!(c, '\n' | '\t') || !c.is_control() && !matches!(c, '\u{fffe}' | '\u{ffff}');
    let kept = text.chars().filter(is_kept);
    kept.map(|c| match c {
        '&' => "&amp;".to_owned(),
        '<' => "&lt;".to_owned(),
        '>' => "&gt;".to_owned(),
        '"' => "&quot;".to_owned(),
        c => c.to_string(),
    })
    .collect()
}
