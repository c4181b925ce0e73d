//! HTML elements whose text and attribute values are always escaped.

use std::fmt::{Display, Write as _};

/// Elements without an end tag (HTML, section 13.1.2).
const VOID: [&str; 2] = ["br", "meta"];

/// One element with its content so far.
#[must_use]
pub(super) struct Element {
    name: &'static str,
    attributes: String,
    content: String,
}

/// An element without attributes and content.
pub(super) fn element(name: &'static str) -> Element {
    Element { name, attributes: String::new(), content: String::new() }
}

/// A `span` of that class with that text.
pub(super) fn span(class: &str, text: impl Display) -> Element {
    element("span").class(class).text(text)
}

impl Element {
    /// Adds an attribute.
    pub(super) fn attribute(mut self, name: &'static str, value: impl Display) -> Self {
        self.attributes.push_str(&format!(" {name}=\""));
        escape(&value.to_string(), &mut self.attributes);
        self.attributes.push('"');
        self
    }

    /// Names its classes.
    pub(super) fn class(self, classes: &str) -> Self {
        self.attribute("class", classes)
    }

    /// Adds text, escaped.
    pub(super) fn text(mut self, text: impl Display) -> Self {
        escape(&text.to_string(), &mut self.content);
        self
    }

    /// Adds an element.
    pub(super) fn child(mut self, child: Element) -> Self {
        child.write(&mut self.content);
        self
    }

    /// Adds elements.
    pub(super) fn children(self, children: impl IntoIterator<Item = Element>) -> Self {
        children.into_iter().fold(self, Element::child)
    }

    /// Adds an element if there is one.
    pub(super) fn maybe(self, child: Option<Element>) -> Self {
        self.children(child)
    }

    /// Adds what is markup or a style sheet already: only what this program made.
    pub(super) fn markup(mut self, markup: &str) -> Self {
        self.content.push_str(markup);
        self
    }

    /// The whole document, with this as its outermost element.
    pub(super) fn document(self) -> String {
        let mut out = String::from("<!DOCTYPE html>");
        self.write(&mut out);
        out
    }

    fn write(self, out: &mut String) {
        let Element { name, attributes, content } = self;
        let end = if VOID.contains(&name) { String::new() } else { format!("</{name}>") };
        // writing into a string does not fail
        let _ = write!(out, "<{name}{attributes}>{content}{end}");
    }
}

fn escape(text: &str, out: &mut String) {
    for c in text.chars() {
        match c {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '"' => out.push_str("&quot;"),
            _ => out.push(c),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn text_and_values_are_escaped_and_void_elements_have_no_end() {
        let item = element("li").attribute("title", "a\"b").text("<x> & ").child(element("br")).maybe(None);
        let list = element("ul").class("a b").children([item, span("c", 7)]);
        assert_eq!(
            list.document(),
            "<!DOCTYPE html><ul class=\"a b\"><li title=\"a&quot;b\">&lt;x&gt; &amp; <br></li>\
             <span class=\"c\">7</span></ul>"
        );
    }
}
