//! Writing binary XML: the manifests of demo builds and test material.

use std::collections::BTreeMap;

use super::{DOCUMENT, END_ELEMENT, NONE, RESOURCE_MAP, START_ELEMENT, STRINGS, Value};

const PLATFORM_NAMESPACE: &str = "http://schemas.android.com/apk/res/android";
const START_NAMESPACE: u16 = 0x0100;
const END_NAMESPACE: u16 = 0x0101;

/// An element to be written.
#[derive(Debug, Clone, Default)]
pub struct Node {
    name: String,
    attributes: Vec<(Option<u32>, String, Value)>,
    children: Vec<Node>,
}

impl Node {
    /// An element of that name.
    pub fn new(name: &str) -> Self {
        Node { name: name.into(), ..Node::default() }
    }

    /// Adds an attribute of the platform, told by its resource id.
    #[must_use]
    pub fn platform(mut self, id: u32, name: &str, value: Value) -> Self {
        self.attributes.push((Some(id), name.into(), value));
        self
    }

    /// Adds an attribute without namespace and id.
    #[must_use]
    pub fn plain(mut self, name: &str, value: &str) -> Self {
        self.attributes.push((None, name.into(), Value::Text(value.into())));
        self
    }

    /// Adds a child.
    #[must_use]
    pub fn child(mut self, node: Node) -> Self {
        self.children.push(node);
        self
    }

    pub(crate) fn name(&self) -> &str {
        &self.name
    }

    pub(crate) fn attributes(&self) -> impl Iterator<Item = (Option<u32>, &str, &Value)> {
        self.attributes.iter().map(|(id, name, value)| (*id, name.as_str(), value))
    }

    pub(crate) fn children(&self) -> &[Node] {
        &self.children
    }

    fn collect_ids(&self, ids: &mut BTreeMap<u32, String>) {
        for (id, name, _) in &self.attributes {
            if let Some(id) = id {
                ids.insert(*id, name.clone());
            }
        }
        self.children.iter().for_each(|child| child.collect_ids(ids));
    }
}

/// The strings so far; those that stand for resource ids come first.
struct Strings {
    list: Vec<String>,
    ids: Vec<u32>,
}

impl Strings {
    fn index(&mut self, text: &str) -> u32 {
        let plain = self.list.iter().enumerate().skip(self.ids.len()).find(|(_, known)| *known == text);
        if let Some((at, _)) = plain {
            return at as u32;
        }
        self.list.push(text.to_owned());
        self.list.len() as u32 - 1
    }

    fn id_index(&self, id: u32) -> u32 {
        self.ids.iter().position(|&known| known == id).map_or(NONE, |at| at as u32)
    }

    fn chunk(&self) -> Vec<u8> {
        let mut offsets = Vec::new();
        let mut data: Vec<u8> = Vec::new();
        for text in &self.list {
            offsets.extend_from_slice(&(data.len() as u32).to_le_bytes());
            let units: Vec<u16> = text.encode_utf16().collect();
            data.extend_from_slice(&(units.len() as u16).to_le_bytes());
            units.iter().for_each(|unit| data.extend_from_slice(&unit.to_le_bytes()));
            data.extend_from_slice(&[0, 0]);
        }
        data.resize(data.len().next_multiple_of(4), 0);
        let start = 28 + offsets.len() as u32;
        let head = words(&[self.list.len() as u32, 0, 0, start, 0]);
        chunk(STRINGS, 28, &[head, offsets, data].concat())
    }
}

/// The document with `root` as its root element.
pub fn write(root: &Node) -> Vec<u8> {
    let mut ids = BTreeMap::new();
    root.collect_ids(&mut ids);
    let mut strings = Strings { list: ids.values().cloned().collect(), ids: ids.keys().copied().collect() };
    let namespace = words(&[1, NONE, strings.index("android"), strings.index(PLATFORM_NAMESPACE)]);
    let mut body = chunk(START_NAMESPACE, 16, &namespace);
    element(root, &mut strings, &mut body);
    body.extend_from_slice(&chunk(END_NAMESPACE, 16, &namespace));
    let map = chunk(RESOURCE_MAP, 8, &words(&strings.ids));
    chunk(DOCUMENT, 8, &[strings.chunk(), map, body].concat())
}

fn element(node: &Node, strings: &mut Strings, out: &mut Vec<u8>) {
    let name = strings.index(&node.name);
    let mut start = words(&[1, NONE, NONE, name]);
    for field in [20u16, 20, node.attributes.len() as u16, 0, 0, 0] {
        start.extend_from_slice(&field.to_le_bytes());
    }
    let mut sorted: Vec<_> = node.attributes.iter().collect();
    sorted.sort_by_key(|(id, ..)| id.unwrap_or(NONE));
    for (id, name, value) in sorted {
        let (namespace, name) = match id {
            Some(id) => (strings.index(PLATFORM_NAMESPACE), strings.id_index(*id)),
            None => (NONE, strings.index(name)),
        };
        let (raw, kind, data) = match value {
            Value::Text(text) => {
                let at = strings.index(text);
                (at, 0x03, at)
            }
            Value::Reference(id) => (NONE, 0x01, *id),
            Value::Number(number) => (NONE, 0x10, *number),
            Value::Boolean(truth) => (NONE, 0x12, if *truth { NONE } else { 0 }),
            Value::Other { kind, data } => (NONE, *kind, *data),
        };
        start.extend_from_slice(&words(&[namespace, name, raw]));
        start.extend_from_slice(&[8, 0, 0, kind]);
        start.extend_from_slice(&data.to_le_bytes());
    }
    out.extend_from_slice(&chunk(START_ELEMENT, 16, &start));
    node.children.iter().for_each(|child| element(child, strings, out));
    out.extend_from_slice(&chunk(END_ELEMENT, 16, &words(&[1, NONE, NONE, name])));
}

fn chunk(kind: u16, header: u16, body: &[u8]) -> Vec<u8> {
    let mut out = Vec::with_capacity(body.len() + 8);
    out.extend_from_slice(&kind.to_le_bytes());
    out.extend_from_slice(&header.to_le_bytes());
    out.extend_from_slice(&(body.len() as u32 + 8).to_le_bytes());
    out.extend_from_slice(body);
    out
}

fn words(list: &[u32]) -> Vec<u8> {
    list.iter().flat_map(|word| word.to_le_bytes()).collect()
}
