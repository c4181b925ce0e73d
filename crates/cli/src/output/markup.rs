//! Elements of HTML and XML whose text and attribute values are always escaped.

use std::borrow::Cow;
use std::fmt::{Display, Write as _};

/// Elements without an end tag (HTML, section 13.1.2).
const VOID: [&str; 2] = ["br", "meta"];

/// One element with its content so far.
#[must_use]
pub(super) struct Element {
    name: &'static str,
    attributes: String,
    content: Vec<Node>,
}

enum Node {
    /// Text that is escaped already, or markup.
    Text(String),
    Element(Element),
}

/// An element without attributes and content.
pub(super) fn element(name: &'static str) -> Element {
    Element { name, attributes: String::new(), content: Vec::new() }
}

/// A `span` of that class with that text.
pub(super) fn span(class: &str, text: impl Display) -> Element {
    element("span").class(class).text(text)
}

impl Element {
    /// Adds an attribute, whose value is escaped.
    pub(super) fn attribute(mut self, name: &'static str, value: impl Display) -> Self {
        let value = value.to_string();
        self.attributes.push_str(&format!(" {name}=\"{}\"", escape(&value)));
        self
    }

    /// Adds the attribute `class`.
    pub(super) fn class(self, classes: &str) -> Self {
        self.attribute("class", classes)
    }

    /// Adds text, which is escaped.
    pub(super) fn text(self, text: impl Display) -> Self {
        let text = text.to_string();
        self.markup(escape(&text))
    }

    /// Adds an element after the content so far.
    pub(super) fn child(mut self, child: Element) -> Self {
        self.content.push(Node::Element(child));
        self
    }

    /// Adds elements after the content so far.
    pub(super) fn children(self, children: impl IntoIterator<Item = Element>) -> Self {
        children.into_iter().fold(self, Element::child)
    }

    /// Adds an element if there is one.
    pub(super) fn maybe(self, child: Option<Element>) -> Self {
        self.children(child)
    }

    /// Adds markup or a style sheet without escaping it: only text that this program made.
    pub(super) fn markup(mut self, markup: impl Into<String>) -> Self {
        self.content.push(Node::Text(markup.into()));
        self
    }

    /// An HTML document, with this as its outermost element.
    pub(super) fn html(&self) -> String {
        let mut out = String::from("<!DOCTYPE html>");
        self.write(&mut out);
        out
    }

    fn write(&self, out: &mut String) {
        let Element { name, attributes, content } = self;
        // writing into a string does not fail
        let _ = write!(out, "<{name}{attributes}>");
        for node in content {
            match node {
                Node::Text(text) => out.push_str(text),
                Node::Element(element) => element.write(out),
            }
        }
        if !VOID.contains(name) {
            let _ = write!(out, "</{name}>");
        }
    }

    /// An XML document with this as its outermost element. Each element without text has its own line.
    pub(super) fn xml(&self) -> String {
        let mut out = String::from("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n");
        self.write_lines(&mut out, 0);
        out
    }

    fn write_lines(&self, out: &mut String, level: usize) {
        let Element { name, attributes, content } = self;
        let indent = "  ".repeat(level);
        let _ = match content.as_slice() {
            [] => writeln!(out, "{indent}<{name}{attributes}/>"),
            [Node::Text(text)] => writeln!(out, "{indent}<{name}{attributes}>{text}</{name}>"),
            all => {
                let _ = writeln!(out, "{indent}<{name}{attributes}>");
                for node in all {
                    match node {
                        Node::Text(text) => out.push_str(text),
                        Node::Element(element) => element.write_lines(out, level + 1),
                    }
                }
                writeln!(out, "{indent}</{name}>")
            }
        };
    }
}

/// Escapes text for an element and for a quoted attribute value.
pub(super) fn escape(text: &str) -> Cow<'_, str> {
    if !text.contains(['&', '<', '>', '"', '\'']) {
        return text.into();
    }
    let mut out = String::with_capacity(text.len() + 16);
    for c in text.chars() {
        match c {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '"' => out.push_str("&quot;"),
            '\'' => out.push_str("&apos;"),
            _ => out.push(c),
        }
    }
    out.into()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn text_and_values_are_escaped_and_void_elements_have_no_end() {
        let item =
            element("li").attribute("title", "a\"b").text("<x> & 'y' ").child(element("br")).maybe(None);
        let list = element("ul").class("a b").children([item, span("c", 7)]);
        assert_eq!(
            list.html(),
            "<!DOCTYPE html><ul class=\"a b\"><li title=\"a&quot;b\">&lt;x&gt; &amp; &apos;y&apos; <br></li>\
             <span class=\"c\">7</span></ul>"
        );
    }

    #[test]
    fn xml_has_a_line_for_each_element() {
        let inside = element("b").children([element("c"), element("d").text("<&>")]);
        assert_eq!(
            element("a").child(inside).xml(),
            "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<a>\n  <b>\n    <c/>\n    <d>&lt;&amp;&gt;</d>\n  </b>\n</a>\n"
        );
    }
}
