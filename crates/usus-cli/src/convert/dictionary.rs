//! The data dictionary beside an output: what its columns are, and what became of the bytes that they were made from.

use std::path::{Path, PathBuf};

use serde_json::{Map, Value, json};
use usus::format::{Field, Format, Literal};
use usus::{FieldSchema, Plan};

use super::one::Converted;
use crate::summary::grouped;
use crate::whole;

/// What a dictionary is written as.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Form {
    Json,
    Markdown,
}

/// A dictionary that is still to be written.
pub(crate) struct Dictionary {
    path: PathBuf,
    form: Form,
    format: Value,
    records: Value,
}

impl Dictionary {
    /// Of what a plan gives. Nothing is written yet.
    pub(crate) fn new(path: &Path, format: &Format, plan: &Plan) -> Result<Dictionary, String> {
        let form = match path.extension().and_then(|ending| ending.to_str()) {
            Some("json") => Form::Json,
            Some("md") => Form::Markdown,
            _ => return Err(format!("{} is no name for a dictionary; it ends in .json or .md", path.display())),
        };
        let wanted = plan.schema().kinds.iter().enumerate().filter(|(_, kind)| kind.wanted);
        let records = wanted.map(|(index, kind)| {
            let fields = kind.fields.iter().map(|field| field_json(format, &kind.name, "", field)).collect::<Vec<_>>();
            json!({"record": kind.name, "title": kind.title, "index": index, "fields": fields})
        });
        let records = records.collect::<Vec<_>>().into();
        let format = json!({"name": format.name, "title": format.title, "version": format.version});
        Ok(Dictionary { path: path.to_owned(), form, format, records })
    }

    pub(crate) fn path(&self) -> &Path {
        &self.path
    }

    /// Writes it, with the accounts of what was converted.
    pub(crate) fn write(mut self, converted: &Converted) -> Result<PathBuf, String> {
        let counts = converted.ledgers.records();
        for record in self.records.as_array_mut().into_iter().flatten() {
            let index = record["index"].as_u64().unwrap_or_default() as usize;
            record["records"] = counts.get(index).copied().unwrap_or_default().into();
            record.as_object_mut().map(|record| record.remove("index"));
        }
        let all = json!({
            "format": self.format,
            "usus": env!("CARGO_PKG_VERSION"),
            "sources": converted.summaries,
            "records": self.records,
        });
        let text = match self.form {
            Form::Json => format!("{all:#}\n"),
            Form::Markdown => markdown(&all),
        };
        whole::write(&self.path, &text).map_err(|error| format!("cannot write {}: {error}", self.path.display()))?;
        Ok(self.path)
    }
}

/// What is known of a field; of a group, of its items, too.
fn field_json(format: &Format, kind: &str, around: &str, schema: &FieldSchema) -> Value {
    let name = schema.declared_name();
    let path = if around.is_empty() { name.to_owned() } else { format!("{around}.{name}") };
    let mut about = Map::new();
    let mut put = |key: &str, value: Value| {
        if !value.is_null() {
            about.insert(key.to_owned(), value);
        }
    };
    put("field", name.into());
    put("column", schema.name.clone().into());
    put("type", schema.value_type.word().into());
    put("unit", schema.unit.clone().into());
    put("tag", schema.tag.clone().into());
    put("title", schema.title.clone().into());
    if let Some(numbers) = schema.numbers {
        put("places", numbers.places.into());
    }
    if let Some(field) = format.field(kind, &path) {
        put("codes", codes(field));
        put("range", field.range.as_ref().map_or(Value::Null, |range| range.value.map(|end| end.to_string()).into()));
        let marks: Vec<Value> = field.no_data.iter().map(|mark| literal(&mark.value)).collect();
        put("no_data", if marks.is_empty() { Value::Null } else { marks.into() });
    }
    if !schema.items.is_empty() && !schema.is_list() {
        put("items", schema.items.iter().map(|item| field_json(format, kind, &path, item)).collect::<Vec<_>>().into());
    }
    if let ([value], true) = (&schema.items[..], schema.is_list()) {
        put("unit", value.unit.clone().into());
        put("of", value.value_type.word().into());
    }
    about.into()
}

fn codes(field: &Field) -> Value {
    if field.codes.is_empty() {
        return Value::Null;
    }
    let pairs = field.codes.iter().map(|(sent, name)| json!({"sent": literal(&sent.value), "name": name}));
    pairs.collect::<Vec<_>>().into()
}

fn literal(literal: &Literal) -> Value {
    match literal {
        Literal::Number(number) => number.to_string().into(),
        Literal::Bits(bits) => format!("{bits:#X}").into(),
        Literal::Text(text) => text.clone().into(),
        Literal::Bool(flag) => flag.to_string().into(),
    }
}

/// A text in a cell of a table.
fn cell(text: &str) -> String {
    let text = crate::safe::Safe(text).to_string();
    text.replace('\\', "\\\\").replace('|', "\\|").replace('<', "&lt;")
}

fn markdown(all: &Value) -> String {
    let text = |value: &Value| cell(value.as_str().unwrap_or_default());
    let format = &all["format"];
    let mut out = format!("# {}\n\n", text(&format["name"]));
    for line in [&format["title"], &format["version"]] {
        if line.is_string() {
            let before = if line == &format["version"] { "Version " } else { "" };
            out += &format!("{before}{}\n\n", text(line));
        }
    }
    for record in all["records"].as_array().into_iter().flatten() {
        out += &format!("## {}\n\n", text(&record["record"]));
        if record["title"].is_string() {
            out += &format!("{}\n\n", text(&record["title"]));
        }
        out += &format!("{} records.\n\n", grouped(record["records"].as_u64().unwrap_or_default()));
        out += "| column | type | unit | tag | meaning |\n|---|---|---|---|---|\n";
        for field in record["fields"].as_array().into_iter().flatten() {
            rows(field, "", &mut out);
        }
        out.push('\n');
    }
    out += "## Sources\n\n";
    for source in all["sources"].as_array().into_iter().flatten() {
        out += &format!("### {}\n\n", text(&source["summary"]));
        if let Some([first, last]) = source["received"].as_array().map(Vec::as_slice) {
            out += &format!("Received from {} to {}.\n\n", text(first), text(last));
        }
        out += "| bytes | |\n|---|---|\n";
        for (class, bytes) in source["bytes"].as_object().into_iter().flatten() {
            out += &format!("| {} | {} |\n", cell(class), grouped(bytes.as_u64().unwrap_or_default()));
        }
        let qualities = source["qualities"].as_array().map(Vec::as_slice).unwrap_or_default();
        if !qualities.is_empty() {
            out += "\n| values that are not plain | |\n|---|---|\n";
            for quality in qualities {
                out +=
                    &format!("| {}.{} | {} |\n", text(&quality["record"]), text(&quality["field"]), classes(quality));
            }
        }
        out.push('\n');
    }
    out += &format!("Made by usus {}.\n", text(&all["usus"]));
    out
}

/// How many values were of which class.
fn classes(quality: &Value) -> String {
    let readings = grouped(quality["readings"].as_u64().unwrap_or_default());
    let told = quality["seen"].as_object().into_iter().flatten().map(|(class, seen)| {
        let count = seen["count"].as_u64().unwrap_or_default();
        format!("{} of {readings} {}", grouped(count), cell(&class.replace('_', " ")))
    });
    told.collect::<Vec<_>>().join(", ")
}

fn rows(field: &Value, around: &str, out: &mut String) {
    let text = |key: &str| cell(field[key].as_str().unwrap_or_default());
    let column = format!("{around}{}", text("column"));
    let mut meaning = vec![text("title")];
    if text("column") != text("field") {
        meaning.push(format!("field {}", text("field")));
    }
    if let Some(codes) = field["codes"].as_array() {
        let pairs = codes.iter().map(|code| {
            format!(
                "{} {}",
                cell(code["sent"].as_str().unwrap_or_default()),
                cell(code["name"].as_str().unwrap_or_default())
            )
        });
        meaning.push(pairs.collect::<Vec<_>>().join(", "));
    }
    if let Some([low, high]) = field["range"].as_array().map(Vec::as_slice) {
        meaning.push(format!("{} to {}", low.as_str().unwrap_or_default(), high.as_str().unwrap_or_default()));
    }
    if let Some(marks) = field["no_data"].as_array() {
        let marks = marks.iter().filter_map(Value::as_str).map(cell);
        meaning.push(format!("no data: {}", marks.collect::<Vec<_>>().join(", ")));
    }
    meaning.retain(|part| !part.is_empty());
    out.push_str(&format!(
        "| {column} | {} | {} | {} | {} |\n",
        text("type"),
        text("unit"),
        text("tag"),
        meaning.join("; ")
    ));
    for item in field["items"].as_array().into_iter().flatten() {
        rows(item, &format!("{column}."), out);
    }
}
