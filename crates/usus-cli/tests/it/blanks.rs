//! The format files to begin with: sound, without doubts, and their own example is what the command makes of it.

use std::fs;

use serde_json::Value;
use usus::Format;
use usus::format::Expected;

use crate::run::usus;

#[test]
fn each_is_sound_and_converts_its_own_example() {
    let folder = tempfile::tempdir().unwrap();
    for kind in ["sentences", "columns", "pairs", "printed", "packet"] {
        let printed = usus(&["formats", "--blank", kind]);
        assert_eq!(printed.status, 0, "{}", printed.said);
        let path = folder.path().join(format!("{kind}.toml"));
        fs::write(&path, &printed.out).unwrap();
        let path = path.to_str().unwrap();
        let checked = usus(&["check", path]);
        assert_eq!(checked.status, 0, "{}", checked.said);
        assert!(!checked.said.contains("doubt"), "{}", checked.said);

        let format = Format::parse(&printed.out).unwrap();
        assert!(format.doubts().is_empty(), "{:?}", format.doubts());
        let example = &format.examples[0];
        let (frame, given) = (&example.frames[0], &example.gives[0]);
        let end: &[u8] = if frame.is_text { b"\r\n" } else { b"" };
        let source = folder.path().join(kind);
        fs::write(&source, [&*frame.bytes, end].concat()).unwrap();
        let converted = usus(&["convert", source.to_str().unwrap(), "--format", path]);
        assert_eq!(converted.status, 0, "{}", converted.said);
        let records: Vec<Value> = converted.out.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
        assert_eq!((records.len(), &records[0]["kind"]), (1, &Value::from(given.kind.value.as_str())));
        assert!(!given.fields.is_empty());
        for (name, expected) in &given.fields {
            assert!(matches!(expected, Expected::Value(_)));
            assert!(records[0]["fields"].get(&name.value).is_some(), "{kind}: {}", name.value);
        }
    }
    assert_eq!(usus(&["formats", "--blank", "nothing"]).status, 2);
}
