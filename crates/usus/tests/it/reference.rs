//! The format reference is true: its examples hold, and it names every key there is.

use usus::{Format, ProblemKind};

const REFERENCE: &str = include_str!("../../../../docs/format-reference.md");

#[test]
fn every_example_of_the_reference_holds() {
    let blocks: Vec<&str> =
        REFERENCE.split("```toml\n").skip(1).map(|rest| rest.split("```").next().unwrap()).collect();
    assert!(blocks.len() >= 5);
    for block in blocks {
        let format = Format::parse_with(block, beside).unwrap_or_else(|problems| panic!("{problems} in\n{block}"));
        let plan = format.compile().unwrap_or_else(|problems| panic!("{problems} in\n{block}"));
        let outcomes = plan.run_examples(&format);
        assert!(!outcomes.is_empty(), "no example in\n{block}");
        for outcome in outcomes {
            assert!(outcome.differences.is_empty(), "{outcome:?} in\n{block}");
        }
    }
}

/// The file of that name, as the reference shows it.
fn beside(name: &str) -> Result<String, String> {
    let shown = REFERENCE.split(&format!("```csv {name}\n")).nth(1).and_then(|rest| rest.split("```").next());
    shown.map(str::to_owned).ok_or_else(|| "the reference does not show it".to_owned())
}

/// Whether an example uses a key: `key = …`, `[key.…]` or `[[key]]`.
fn shown(key: &str) -> bool {
    let blocks = REFERENCE.split("```toml\n").skip(1).map(|rest| rest.split("```").next().unwrap());
    blocks.flat_map(str::lines).any(|line| {
        let word = |(place, _): (usize, &str)| {
            let before = line[..place].chars().next_back().is_none_or(|c| !c.is_ascii_alphanumeric() && c != '_');
            let after = line[place + key.len()..].trim_start();
            before
                && (after.starts_with('=')
                    || after.starts_with(']')
                    || (after.starts_with('.') && line.starts_with('[')))
        };
        line.match_indices(key).any(word)
    })
}

/// The reader of format files tells the keys of a table when it meets an unknown one: each must be named in the reference.
#[test]
fn every_key_is_in_the_reference() {
    let text = "
        xyzzyx = 1
        limits = { xyzzyx = 1 }
        [line.a]
        xyzzyx = 1
        [[frame]]
        cut = 'packet'
        xyzzyx = 1
        length = { xyzzyx = 1 }
        checksum = { xyzzyx = 1 }
        header = [{ xyzzyx = 1 }]
        [[frame]]
        cut = 'packet'
        length = { past = { until = '00', xyzzyx = 1 } }
        header = { file = 'signals.csv', xyzzyx = 1 }
        [[frame]]
        cut = 'text'
        xyzzyx = 1
        [record.r]
        xyzzyx = 1
        latest = [{ xyzzyx = 1 }]
        [[record.r.part]]
        xyzzyx = 1
        [multipart.m]
        xyzzyx = 1
        [exchange.e]
        xyzzyx = 1
        [merge.g]
        xyzzyx = 1
        [[ignore]]
        xyzzyx = 1
        [[example]]
        xyzzyx = 1
        frames = [{ xyzzyx = 1 }]
    ";
    let problems = Format::parse_with(text, beside).unwrap_err();
    let (mut tables, mut keys) = (Vec::new(), 0);
    for problem in problems.iter() {
        let ProblemKind::UnknownKey { table, known, .. } = &problem.kind else { continue };
        tables.push(*table);
        for key in known {
            keys += 1;
            assert!(shown(key), "no example of the reference uses `{key}` of {table}");
            assert!(REFERENCE.contains(&format!("`{key}`")), "`{key}` of {table} is not in the reference");
        }
    }
    assert_eq!(tables.len(), 19, "{tables:?}");
    assert!(keys > 80);
}
