//! Files beside a format are loaded from its folder, and from nowhere else.

use std::fs;

use usus::Format;
use usus_io::files_beside;

#[test]
fn files_come_from_the_folder_of_the_format_only() {
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name);
    for name in ["formats", "formats/parts", "elsewhere"] {
        fs::create_dir(path(name)).unwrap();
    }
    fs::write(path("formats/a.csv"), "a").unwrap();
    fs::write(path("formats/parts/b.csv"), "b").unwrap();
    fs::write(path("elsewhere/c.csv"), "c").unwrap();
    fs::write(path("formats/latin.csv"), b"name\nh\xE4user\n").unwrap();
    fs::write(path("formats/large.csv"), vec![b'x'; usus::limits::FORMAT_BYTES + 1]).unwrap();
    fs::write(path("formats/largest.csv"), vec![b'x'; usus::limits::FORMAT_BYTES]).unwrap();
    std::os::unix::fs::symlink(path("elsewhere/c.csv"), path("formats/link.csv")).unwrap();
    std::os::unix::fs::symlink(path("elsewhere"), path("formats/linked")).unwrap();
    let absolute = path("formats/a.csv").display().to_string();
    let mut load = files_beside(&path("formats/drive.toml"));
    let elsewhere = Err("it is not in the folder of the format");
    for (name, wanted) in [
        ("a.csv", Ok("a")),
        ("./a.csv", Ok("a")),
        ("parts/b.csv", Ok("b")),
        ("../elsewhere/c.csv", elsewhere),
        ("parts/../a.csv", elsewhere),
        (&absolute, elsewhere),
        ("", elsewhere),
        ("link.csv", elsewhere),
        ("linked/c.csv", elsewhere),
        ("parts", Err("it is no file")),
        ("none.csv", Err("No such file or directory (os error 2)")),
        ("latin.csv", Err("it is not UTF-8 at byte 6")),
        ("large.csv", Err("it has more than 1048576 bytes")),
    ] {
        assert_eq!(load(name), wanted.map(str::to_owned).map_err(str::to_owned), "{name}");
    }
    assert_eq!(load("largest.csv").unwrap().len(), usus::limits::FORMAT_BYTES);
}

#[test]
fn a_spreadsheet_of_signals_is_a_format() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("drive.toml");
    fs::write(
        folder.path().join("signals.csv"),
        "\u{FEFF}Signal;Offset;type;unit\r\nspeed;1;i16be;m/s\r\n;;;\r\nload;3;u8;%\r\n",
    )
    .unwrap();
    let text = "format = 'drive'\n[[frame]]\ncut = 'packet'\nstart = 'A7'\nlength = 4\n[record.state]\n\
                fields = { file = 'signals.csv', separator = ';', keys = { Signal = 'name', Offset = 'byte' } }";
    fs::write(&path, text).unwrap();
    let format = Format::parse_with(text, files_beside(&path)).unwrap();
    let plan = format.compile().unwrap();
    let mut shown = Vec::new();
    let mut take = |record: &usus::Record<'_>| {
        shown.extend(["speed", "load"].map(|name| record.get(name).unwrap().value.to_string()))
    };
    plan.decode(&[0xA7, 0xFF, 0x38, 55], &mut take).unwrap();
    assert_eq!(shown, ["-200", "55"]);
    // What is altered goes on without the file.
    let mut altered = format.clone();
    altered.records[0].fields[0].name = Some("rope_speed".into());
    assert!(altered.compile().unwrap().schema().kind("state").unwrap().field("rope_speed").is_some());
    assert_eq!(Format::parse(&format.to_toml()).unwrap().compile().unwrap().schema(), plan.schema());
    let alone = Format::parse(text).unwrap_err();
    assert!(alone.to_string().contains("`signals.csv` cannot be loaded: there is nothing that loads files"), "{alone}");
}
