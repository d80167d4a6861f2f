//! What a device said, to be held against what a decoder makes of it.

/// What one message said.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Truth {
    /// Kind of the record.
    pub kind: &'static str,
    /// Where its frame begins in the received bytes; nothing if it did not arrive whole.
    pub offset: Option<u64>,
    /// Bytes of its frame, without a line end; of all of them, if there are several.
    pub length: u64,
    /// How many messages said it.
    pub messages: usize,
    /// What tells it from what others say together; 0 for what one message says.
    pub(crate) id: u64,
    /// Whether a checksum vouches for it. Of the others, damaged ones cannot be told from sound ones.
    pub protected: bool,
    /// Its fields, in the order of the datasheet.
    pub fields: Vec<(&'static str, Fact)>,
}

/// What a field said.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Fact {
    /// A value as a table shows it; the empty text for none.
    Text(String),
    /// The items of a group.
    Items(Vec<Vec<(String, Fact)>>),
}

impl From<String> for Fact {
    fn from(text: String) -> Fact {
        Fact::Text(text)
    }
}

impl From<&str> for Fact {
    fn from(text: &str) -> Fact {
        Fact::Text(text.to_owned())
    }
}

impl Truth {
    /// The truth as one line of JSON: kind, offset, length and fields, all values as texts.
    pub fn to_json(&self) -> String {
        let offset = self.offset.map_or("null".to_owned(), |offset| offset.to_string());
        let fields: Vec<String> =
            self.fields.iter().map(|(name, fact)| format!("{}:{}", quote(name), json(fact))).collect();
        let (kind, length) = (quote(self.kind), self.length);
        format!("{{\"kind\":{kind},\"offset\":{offset},\"length\":{length},\"fields\":{{{}}}}}", fields.join(","))
    }
}

fn json(fact: &Fact) -> String {
    match fact {
        Fact::Text(text) => quote(text),
        Fact::Items(items) => {
            let object = |item: &Vec<(String, Fact)>| {
                let fields: Vec<String> =
                    item.iter().map(|(name, fact)| format!("{}:{}", quote(name), json(fact))).collect();
                format!("{{{}}}", fields.join(","))
            };
            format!("[{}]", items.iter().map(object).collect::<Vec<_>>().join(","))
        }
    }
}

/// The simulators' texts are printable ASCII, so that quotes and backslashes are all there is to escape.
fn quote(text: &str) -> String {
    format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\""))
}
