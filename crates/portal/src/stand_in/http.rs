//! HTTP/1.1 as the simulated portal speaks it (RFC 9110, RFC 9112): one thread per connection, one request after another.
//!
//! A head is read by `httparse`. A body has a length that is known beforehand or comes in chunks, and never more bytes than
//! its route takes.

use std::io::{self, Read, Write};

use jiff::Timestamp;
use jiff::fmt::rfc2822;
use ureq::http::header::{self, HeaderMap, HeaderName, HeaderValue};
use ureq::http::{Method, StatusCode, Uri};

/// The most bytes of a request's head, of a line between chunks, and the most header fields.
const MOST_HEAD: usize = 64 << 10;
const MOST_LINE: usize = 4 << 10;
const MOST_FIELDS: usize = 100;
/// Bytes that are read in one call.
const STEP: usize = 16 << 10;
/// The most bytes of a refused body that are read and dropped, so that the client reads the refusal and not a reset.
const MOST_DROPPED: u64 = 16 << 20;

/// One request.
#[derive(Debug)]
pub(super) struct Call {
    pub(super) method: Method,
    /// The path as it was sent, without the query.
    pub(super) path: String,
    pub(super) headers: HeaderMap,
    pub(super) body: Vec<u8>,
    /// Whether it came by HTTP/1.0, which ends the connection behind each answer.
    is_old: bool,
    /// What stands in the path for the names of its route, in their order.
    pub(super) parts: Vec<String>,
}

impl Call {
    /// What stands for a name of the route, counted from 0; empty where the route has no such name.
    pub(super) fn part(&self, index: usize) -> &str {
        self.parts.get(index).map_or("", String::as_str)
    }
}

/// The answer to a request.
#[derive(Debug)]
pub(super) struct Response {
    pub(super) status: StatusCode,
    fields: Vec<(&'static str, String)>,
    pub(super) body: Vec<u8>,
}

impl Response {
    /// An answer without a body.
    pub(super) fn new(status: StatusCode) -> Self {
        Response { status, fields: Vec::new(), body: Vec::new() }
    }

    /// The same with a body of a media type.
    pub(super) fn body(self, kind: &str, body: impl Into<Vec<u8>>) -> Self {
        Response { body: body.into(), ..self.field(header::CONTENT_TYPE.as_str(), kind) }
    }

    /// The same with one more header field.
    pub(super) fn field(mut self, name: &'static str, value: &str) -> Self {
        self.fields.push((name, value.to_owned()));
        self
    }

    /// The bytes on the wire. A request by `HEAD` gets the same head and no body.
    fn written(&self, is_head: bool, is_last: bool, now: Timestamp) -> Vec<u8> {
        let reason = self.status.canonical_reason().unwrap_or_default();
        let mut head = format!("HTTP/1.1 {} {reason}\r\n", self.status.as_u16());
        let mut put = |name: &str, value: &str| head.extend([name, ": ", value, "\r\n"]);
        for (name, value) in &self.fields {
            put(name, value);
        }
        if self.status != StatusCode::NO_CONTENT {
            put(header::CONTENT_LENGTH.as_str(), &self.body.len().to_string());
        }
        if let Ok(date) = rfc2822::DateTimePrinter::new().timestamp_to_rfc9110_string(&now) {
            put(header::DATE.as_str(), &date);
        }
        if is_last {
            put(header::CONNECTION.as_str(), "close");
        }
        head.push_str("\r\n");
        let mut bytes = head.into_bytes();
        if !is_head {
            bytes.extend_from_slice(&self.body);
        }
        bytes
    }
}

/// An answer, and what becomes of it on the way.
pub(super) struct Sent {
    pub(super) response: Response,
    /// The connection breaks after so many bytes of the answer.
    pub(super) cut: Option<usize>,
}

impl From<Response> for Sent {
    fn from(response: Response) -> Self {
        Sent { response, cut: None }
    }
}

/// What answers requests.
pub(super) trait Site {
    /// The time, for the field `date`.
    fn now(&self) -> Timestamp;

    /// The most bytes that the body of a request may have.
    fn most(&self, path: &str) -> usize;

    /// Answers one request.
    fn answer(&self, call: Call) -> Sent;
}

/// Why a request cannot be read.
#[derive(Debug)]
enum Broken {
    /// The connection ended or failed.
    Gone,
    /// It is not HTTP, or not in a form that is understood; the status that says so.
    Refused(StatusCode),
}

impl From<io::Error> for Broken {
    fn from(_: io::Error) -> Self {
        Broken::Gone
    }
}

const MALFORMED: Broken = Broken::Refused(StatusCode::BAD_REQUEST);

/// How a connection ended.
#[derive(Debug, PartialEq, Eq)]
pub(super) enum Ended {
    /// Every answer was written whole.
    Whole,
    /// In the middle of an answer, on purpose.
    Cut,
}

/// Answers the requests of one connection until either side ends it.
///
/// # Errors
/// What the connection said when an answer could not be written.
pub(super) fn converse(stream: impl Read + Write, site: &dyn Site) -> io::Result<Ended> {
    let mut line = Line { stream, held: Vec::new() };
    loop {
        let (call, is_last) = match line.call(site) {
            Ok(Some(call)) => call,
            Ok(None) | Err(Broken::Gone) => return Ok(Ended::Whole),
            Err(Broken::Refused(status)) => {
                line.stream.write_all(&Response::new(status).written(false, true, site.now()))?;
                line.stream.flush()?;
                return line.drop_rest();
            }
        };
        let is_head = call.method == Method::HEAD;
        let Sent { response, cut } = site.answer(call);
        let mut bytes = response.written(is_head, is_last, site.now());
        bytes.truncate(cut.unwrap_or(usize::MAX));
        line.stream.write_all(&bytes)?;
        line.stream.flush()?;
        match cut {
            Some(_) => return Ok(Ended::Cut),
            None if is_last => return Ok(Ended::Whole),
            None => {}
        }
    }
}

/// A connection, and what was read from it and not used yet.
struct Line<S> {
    stream: S,
    held: Vec<u8>,
}

/// How long a body is.
enum Length {
    Known(u64),
    Chunked,
}

impl<S: Read + Write> Line<S> {
    /// The next request, and whether the client wants no other on this connection; nothing at the end of the connection.
    fn call(&mut self, site: &dyn Site) -> Result<Option<(Call, bool)>, Broken> {
        let Some(mut call) = self.head()? else { return Ok(None) };
        let says = |name: HeaderName, word: &str| {
            let all = call.headers.get_all(name);
            let mut words = all.iter().filter_map(|value| value.to_str().ok()).flat_map(|one| one.split(','));
            words.any(|one| one.trim().eq_ignore_ascii_case(word))
        };
        let is_last = call.is_old || says(header::CONNECTION, "close");
        let waits = says(header::EXPECT, "100-continue");
        let most = site.most(&call.path);
        let length = length(&call.headers)?;
        let too_large = Broken::Refused(StatusCode::PAYLOAD_TOO_LARGE);
        if matches!(length, Length::Known(length) if length > most as u64) {
            return Err(too_large);
        }
        if waits {
            self.stream.write_all(b"HTTP/1.1 100 Continue\r\n\r\n")?;
            self.stream.flush()?;
        }
        match length {
            Length::Known(length) => {
                let length = usize::try_from(length).map_err(|_| too_large)?;
                self.take(length, &mut call.body)?;
            }
            Length::Chunked => self.chunks(most, &mut call.body)?,
        }
        Ok(Some((call, is_last)))
    }

    /// Reads a head.
    fn head(&mut self) -> Result<Option<Call>, Broken> {
        loop {
            let mut fields = [httparse::EMPTY_HEADER; MOST_FIELDS];
            let mut request = httparse::Request::new(&mut fields);
            match request.parse(&self.held) {
                Ok(httparse::Status::Complete(size)) => {
                    let call = understood(&request)?;
                    self.held.drain(..size);
                    return Ok(Some(call));
                }
                Ok(httparse::Status::Partial) if self.held.len() < MOST_HEAD => {}
                Ok(httparse::Status::Partial) | Err(httparse::Error::TooManyHeaders) => {
                    return Err(Broken::Refused(StatusCode::REQUEST_HEADER_FIELDS_TOO_LARGE));
                }
                Err(_) => return Err(MALFORMED),
            }
            if self.more()? == 0 {
                return Ok(None);
            }
        }
    }

    /// Reads what is there; 0 at the end of the connection.
    fn more(&mut self) -> Result<usize, Broken> {
        let mut some = [0; STEP];
        let read = self.stream.read(&mut some)?;
        self.held.extend_from_slice(some.get(..read).unwrap_or_default());
        Ok(read)
    }

    /// Moves so many bytes to a body.
    fn take(&mut self, size: usize, to: &mut Vec<u8>) -> Result<(), Broken> {
        let there = size.min(self.held.len());
        to.extend(self.held.drain(..there));
        let left = (size - there) as u64;
        match (&mut self.stream).take(left).read_to_end(to)? as u64 {
            read if read == left => Ok(()),
            _ => Err(Broken::Gone),
        }
    }

    /// Reads a body that comes in chunks (RFC 9112, section 7.1).
    fn chunks(&mut self, most: usize, to: &mut Vec<u8>) -> Result<(), Broken> {
        loop {
            let line = self.text_line()?;
            let digits = line.split(';').next().unwrap_or_default().trim();
            if digits.starts_with('+') {
                return Err(MALFORMED);
            }
            let size = usize::from_str_radix(digits, 16).map_err(|_| MALFORMED)?;
            if size > most.saturating_sub(to.len()) {
                return Err(Broken::Refused(StatusCode::PAYLOAD_TOO_LARGE));
            }
            if size == 0 {
                break;
            }
            self.take(size, to)?;
            if !self.text_line()?.is_empty() {
                return Err(MALFORMED);
            }
        }
        // fields behind the last chunk say nothing that is needed
        for _ in 0..MOST_FIELDS {
            if self.text_line()?.is_empty() {
                return Ok(());
            }
        }
        Err(MALFORMED)
    }

    /// A line without its end.
    fn text_line(&mut self) -> Result<String, Broken> {
        let end = loop {
            match self.held.iter().position(|byte| *byte == b'\n') {
                Some(end) => break end,
                None if self.held.len() > MOST_LINE => return Err(MALFORMED),
                None if self.more()? == 0 => return Err(Broken::Gone),
                None => {}
            }
        };
        let mut line: Vec<u8> = self.held.drain(..=end).collect();
        line.pop();
        if line.pop_if(|byte| *byte == b'\r').is_none() {
            return Err(MALFORMED);
        }
        String::from_utf8(line).map_err(|_| MALFORMED)
    }

    /// Reads and drops what a refused request goes on with.
    fn drop_rest(mut self) -> io::Result<Ended> {
        io::copy(&mut (&mut self.stream).take(MOST_DROPPED), &mut io::sink()).map(|_| Ended::Whole)
    }
}

/// A head with its parts checked.
fn understood(request: &httparse::Request<'_, '_>) -> Result<Call, Broken> {
    let method = request.method.and_then(|method| method.parse().ok()).ok_or(MALFORMED)?;
    let target: Uri = request.path.and_then(|path| path.parse().ok()).ok_or(MALFORMED)?;
    let mut headers = HeaderMap::new();
    for field in request.headers.iter() {
        let name = HeaderName::from_bytes(field.name.as_bytes()).map_err(|_| MALFORMED)?;
        let value = HeaderValue::from_bytes(field.value).map_err(|_| MALFORMED)?;
        headers.append(name, value);
    }
    let path = target.path().to_owned();
    let is_old = request.version != Some(1);
    Ok(Call { method, path, headers, body: Vec::new(), is_old, parts: Vec::new() })
}

/// How long the body behind a head is. Two lengths, or a length beside chunks, let two readers see two requests.
fn length(headers: &HeaderMap) -> Result<Length, Broken> {
    let lengths = headers.get_all(header::CONTENT_LENGTH);
    let mut lengths = lengths.iter();
    let codings = headers.get_all(header::TRANSFER_ENCODING);
    let mut codings = codings.iter();
    match (lengths.next(), lengths.next(), codings.next(), codings.next()) {
        (None, None, None, None) => Ok(Length::Known(0)),
        (Some(length), None, None, None) => {
            let digits = length.as_bytes();
            let text = std::str::from_utf8(digits).ok().filter(|_| digits.iter().all(u8::is_ascii_digit));
            Ok(Length::Known(text.and_then(|text| text.parse().ok()).ok_or(MALFORMED)?))
        }
        (None, None, Some(coding), None) if coding.as_bytes().eq_ignore_ascii_case(b"chunked") => {
            Ok(Length::Chunked)
        }
        (None, None, Some(_), _) => Err(Broken::Refused(StatusCode::NOT_IMPLEMENTED)),
        _ => Err(MALFORMED),
    }
}

#[cfg(test)]
mod tests {
    use std::cell::RefCell;
    use std::cmp::min;

    use proptest::prelude::*;

    use super::*;

    /// A connection whose client has sent everything: it comes in steps of that size.
    struct Client<'a> {
        sends: &'a [u8],
        step: usize,
        got: Vec<u8>,
    }

    impl Read for Client<'_> {
        fn read(&mut self, to: &mut [u8]) -> io::Result<usize> {
            let size = min(min(to.len(), self.step), self.sends.len());
            let (now, later) = self.sends.split_at(size);
            to[..size].copy_from_slice(now);
            self.sends = later;
            Ok(size)
        }
    }

    impl Write for Client<'_> {
        fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
            self.got.extend_from_slice(bytes);
            Ok(bytes.len())
        }

        fn flush(&mut self) -> io::Result<()> {
            Ok(())
        }
    }

    /// Answers with the method, the path and the body; keeps what it was asked.
    #[derive(Default)]
    struct Echo {
        asked: RefCell<Vec<String>>,
        cut: Option<usize>,
    }

    impl Site for Echo {
        fn now(&self) -> Timestamp {
            "2031-05-19T12:00:00Z".parse().unwrap()
        }

        fn most(&self, _: &str) -> usize {
            20
        }

        fn answer(&self, call: Call) -> Sent {
            let text = format!("{} {} {}", call.method, call.path, String::from_utf8_lossy(&call.body));
            self.asked.borrow_mut().push(text.clone());
            Sent { response: Response::new(StatusCode::OK).body("text/plain", text), cut: self.cut }
        }
    }

    /// What was asked, and what came back.
    fn said(sends: &[u8], step: usize) -> (Vec<String>, String) {
        let site = Echo::default();
        let mut client = Client { sends, step, got: Vec::new() };
        converse(&mut client, &site).unwrap();
        (site.asked.into_inner(), String::from_utf8(client.got).unwrap())
    }

    /// The status that a request which cannot be read is answered with.
    fn refused(sends: &str) -> String {
        let (asked, got) = said(sends.as_bytes(), 7);
        assert_eq!(asked, Vec::<String>::new(), "{sends}");
        assert!(got.contains("\r\nconnection: close\r\n"), "{got}");
        got.get(9..12).unwrap_or_default().to_owned()
    }

    #[test]
    fn requests_follow_one_another_on_a_connection_however_they_are_cut() {
        let sends = b"POST /a?b=c HTTP/1.1\r\nContent-Length: 5\r\n\r\nferryGET /d HTTP/1.1\r\n\r\n\
            PUT /e HTTP/1.1\r\ntransfer-encoding: chunked\r\n\r\n3;x=y\r\nabc\r\nA\r\n0123456789\r\n0\r\nz: 1\r\n\r\n\
            HEAD /f HTTP/1.1\r\nconnection: close\r\n\r\nGET /g HTTP/1.1\r\n\r\n";
        for step in 1..=sends.len() {
            let (asked, got) = said(sends, step);
            assert_eq!(asked, ["POST /a ferry", "GET /d ", "PUT /e abc0123456789", "HEAD /f "], "{step}");
            assert_eq!(got.matches("HTTP/1.1 200 OK\r\n").count(), 4);
            assert!(
                got.ends_with(
                    "content-length: 8\r\ndate: Mon, 19 May 2031 12:00:00 GMT\r\nconnection: close\r\n\r\n"
                ),
                "{got}"
            );
        }
    }

    #[test]
    fn what_is_not_understood_is_refused_with_a_status_and_ends_the_connection() {
        let with = |fields: &str| refused(&format!("PUT /a HTTP/1.1\r\n{fields}\r\n0123456789"));
        assert_eq!(refused("what\r\n\r\n"), "400");
        assert_eq!(refused("GET /a HTTP/2.0\r\n\r\n"), "400");
        assert_eq!(with("content-length: 21\r\n"), "413");
        assert_eq!(with("content-length: 99999999999999999999\r\n"), "400");
        assert_eq!(with("content-length: +5\r\n"), "400");
        assert_eq!(with("content-length: 5\r\ncontent-length: 6\r\n"), "400");
        assert_eq!(with("content-length: 5\r\ntransfer-encoding: chunked\r\n"), "400");
        assert_eq!(with("transfer-encoding: gzip, chunked\r\n"), "501");
        let chunked =
            |body: &str| refused(&format!("PUT /a HTTP/1.1\r\ntransfer-encoding: chunked\r\n\r\n{body}"));
        assert_eq!(chunked("15\r\n"), "413");
        assert_eq!(chunked("14\r\n01234567890123456789\r\n1\r\n"), "413");
        for wrong in ["x\r\n", "+1\r\na\r\n", "1\na\r\n", "1\r\nab\r\n", "-1\r\n", "\r\n", &"1".repeat(5000)]
        {
            assert_eq!(chunked(wrong), "400", "{wrong}");
        }
        assert_eq!(refused(&format!("GET /{} HTTP/1.1\r\n", "a".repeat(70_000))), "431");
        assert_eq!(refused(&format!("GET / HTTP/1.1\r\n{}\r\n", "a: b\r\n".repeat(101))), "431");
    }

    #[test]
    fn a_client_that_asks_first_is_told_to_go_on_or_refused() {
        let (asked, got) = said(b"PUT /a HTTP/1.1\r\nexpect: 100-continue\r\ncontent-length: 2\r\n\r\nab", 3);
        assert_eq!(asked, ["PUT /a ab"]);
        assert!(got.starts_with("HTTP/1.1 100 Continue\r\n\r\nHTTP/1.1 200 OK\r\n"), "{got}");
        assert_eq!(refused("PUT /a HTTP/1.1\r\nexpect: 100-continue\r\ncontent-length: 21\r\n\r\n"), "413");
    }

    #[test]
    fn a_client_of_the_version_before_gets_its_answer_and_the_end_of_the_connection() {
        let (asked, got) = said(b"POST /a HTTP/1.0\r\ncontent-length: 1\r\n\r\nbGET /c HTTP/1.0\r\n\r\n", 90);
        assert_eq!(asked, ["POST /a b"]);
        assert!(got.contains("\r\nconnection: close\r\n"), "{got}");
    }

    #[test]
    fn an_answer_that_is_cut_is_the_last_one() {
        let site = Echo { cut: Some(12), ..Echo::default() };
        let mut client =
            Client { sends: b"GET /a HTTP/1.1\r\n\r\nGET /b HTTP/1.1\r\n\r\n", step: 90, got: Vec::new() };
        converse(&mut client, &site).unwrap();
        assert_eq!(client.got, b"HTTP/1.1 200");
        assert_eq!(site.asked.into_inner(), ["GET /a "]);
    }

    proptest! {
        #[test]
        fn any_bytes_end_the_conversation(sends in proptest::collection::vec(any::<u8>(), 0..300), step in 1usize..50) {
            let mut whole = b"PUT /a HTTP/1.1\r\ntransfer-encoding: chunked\r\n\r\n".to_vec();
            whole.extend(&sends);
            for sends in [&sends, &whole] {
                let mut client = Client { sends, step, got: Vec::new() };
                prop_assert!(converse(&mut client, &Echo::default()).is_ok());
            }
        }
    }
}
