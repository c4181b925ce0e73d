//! Which code answers which request: by the path, then by the method. A path has names in braces where something stands for
//! itself; `{*NAME}` at its end takes all that follows.

use std::borrow::Cow;
use std::sync::{Mutex, PoisonError};

use jiff::Timestamp;
use percent_encoding::percent_decode_str;
use ureq::http::{Method, StatusCode, header};

use super::faults;
use super::http::{Call, Response, Sent, Site};
use super::routes::{Portal, Refusal, table};

/// The most bytes of a request's body, where its route says nothing else.
const MOST: usize = 1 << 20;

/// What answers a request by one method.
type Handler = fn(&Portal, &Call) -> Result<Response, Refusal>;

/// What answers at one path, by method.
pub(super) struct Answers {
    by_method: Vec<(Method, Handler)>,
    most: usize,
    beside_others: bool,
}

/// Answers `GET`, and `HEAD` with the same head.
pub(super) fn get(handler: Handler) -> Answers {
    Answers { by_method: vec![(Method::GET, handler)], most: MOST, beside_others: false }
}

/// Answers `POST`.
pub(super) fn post(handler: Handler) -> Answers {
    Answers { by_method: vec![(Method::POST, handler)], ..get(handler) }
}

/// Answers `PUT`.
pub(super) fn put_to(handler: Handler) -> Answers {
    Answers { by_method: vec![(Method::PUT, handler)], ..get(handler) }
}

impl Answers {
    fn also(mut self, method: Method, handler: Handler) -> Self {
        self.by_method.push((method, handler));
        self
    }

    /// And `POST`.
    pub(super) fn post(self, handler: Handler) -> Self {
        self.also(Method::POST, handler)
    }

    /// And `DELETE`.
    pub(super) fn delete(self, handler: Handler) -> Self {
        self.also(Method::DELETE, handler)
    }

    /// Takes bodies of up to so many bytes.
    pub(super) fn up_to(self, most: usize) -> Self {
        Answers { most, ..self }
    }

    /// Takes long, so that others are answered meanwhile.
    pub(super) fn beside_others(self) -> Self {
        Answers { beside_others: true, ..self }
    }

    fn handler(&self, method: &Method) -> Option<Handler> {
        let wanted = if method == Method::HEAD { &Method::GET } else { method };
        self.by_method.iter().find(|(known, _)| known == wanted).map(|(_, handler)| *handler)
    }

    /// The refusal of another method, with those that are answered (RFC 9110, section 15.5.6).
    fn other_method(&self) -> Response {
        let mut allowed: Vec<&str> = self.by_method.iter().map(|(method, _)| method.as_str()).collect();
        if allowed.contains(&"GET") {
            allowed.push("HEAD");
        }
        Response::new(StatusCode::METHOD_NOT_ALLOWED).field(header::ALLOW.as_str(), &allowed.join(","))
    }
}

/// The simulated portal as a site: routes, and the faults that happen on purpose.
pub(super) struct Router {
    portal: Portal,
    table: Vec<(String, Answers)>,
    faults: Option<faults::Run>,
    /// One request is worked on at a time: what it reads is still so when it writes.
    turn: Mutex<()>,
}

impl Router {
    pub(super) fn new(portal: Portal, faults: Option<faults::Run>) -> Self {
        Router { portal, table: table(), faults, turn: Mutex::new(()) }
    }

    fn find(&self, path: &str) -> Option<(&Answers, Vec<String>)> {
        self.table.iter().find_map(|(route, answers)| Some((answers, parts(route, path)?)))
    }

    fn route(&self, mut call: Call) -> Response {
        let Some((answers, parts)) = self.find(&call.path) else {
            return Refusal::unknown("nothing is answered here").into();
        };
        let Some(handler) = answers.handler(&call.method) else { return answers.other_method() };
        let Some(parts) = parts.iter().map(|part| decoded(part)).collect() else {
            return Refusal::malformed("the path is no text").into();
        };
        call.parts = parts;
        let turn = (!answers.beside_others).then(|| self.turn.lock().unwrap_or_else(PoisonError::into_inner));
        let answer = handler(&self.portal, &call);
        drop(turn);
        answer.unwrap_or_else(Response::from)
    }
}

impl Site for Router {
    fn now(&self) -> Timestamp {
        self.portal.now()
    }

    fn most(&self, path: &str) -> usize {
        self.find(path).map_or(MOST, |(answers, _)| answers.most)
    }

    fn answer(&self, call: Call) -> Sent {
        match &self.faults {
            None => self.route(call).into(),
            Some(run) => run.disturb(|| self.route(call)),
        }
    }
}

/// What stands in a path for the names of a route; nothing where the path is another route's.
fn parts(route: &str, path: &str) -> Option<Vec<String>> {
    let (mut wanted, mut found) = (route.split('/'), path.split('/'));
    let mut parts = Vec::new();
    loop {
        match (wanted.next(), found.next()) {
            (None, None) => return Some(parts),
            (Some(name), Some(first)) if name.starts_with("{*") => {
                let rest: Vec<&str> = std::iter::once(first).chain(found).collect();
                parts.push(rest.join("/"));
                return Some(parts).filter(|_| !rest.join("").is_empty());
            }
            (Some(name), Some(part)) if name.starts_with('{') && !part.is_empty() => {
                parts.push(part.to_owned());
            }
            (Some(wanted), Some(found)) if wanted == found => {}
            _ => return None,
        }
    }
}

/// A part of a path without its percent-encoding (RFC 3986, section 2.1); nothing where it is no text.
fn decoded(part: &str) -> Option<String> {
    percent_decode_str(part).decode_utf8().ok().map(Cow::into_owned)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn found(route: &str, path: &str) -> Option<Vec<String>> {
        parts(route, path)
    }

    #[test]
    fn a_route_takes_the_paths_that_have_its_form() {
        let some = |parts: &[&str]| Some(parts.iter().map(|part| (*part).to_owned()).collect::<Vec<_>>());
        assert_eq!(found("/a/b", "/a/b"), some(&[]));
        assert_eq!(found("/a/{id}/c/{number}", "/a/x/c/7"), some(&["x", "7"]));
        assert_eq!(found("/a/{*rest}", "/a/x/y%2Fz"), some(&["x/y%2Fz"]));
        for (route, path) in [
            ("/a/b", "/a/b/"),
            ("/a/b", "/a"),
            ("/a/{id}", "/a/"),
            ("/a/{id}", "/a/b/c"),
            ("/a/{*rest}", "/a/"),
            ("/a/{*rest}", "/a"),
            ("/a", "a"),
        ] {
            assert_eq!(found(route, path), None, "{route} {path}");
        }
    }

    #[test]
    fn percent_encoding_is_undone_once() {
        assert_eq!(decoded("a%2Fb%25%c3%BC"), Some("a/b%ü".into()));
        assert_eq!(decoded("%2525"), Some("%25".into()));
        assert_eq!(decoded("%zz%2"), Some("%zz%2".into()));
        assert_eq!(decoded("%ff"), None);
    }

    #[test]
    fn no_path_is_two_routes() {
        let sample = |route: &str| route.replace(['{', '}', '*'], "x");
        for (route, _) in table() {
            let matching: Vec<String> = table()
                .into_iter()
                .map(|(one, _)| one)
                .filter(|one| found(one, &sample(&route)).is_some())
                .collect();
            assert_eq!(matching, [route]);
        }
    }
}
