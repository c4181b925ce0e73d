//! Long documents, laid out in pieces on all cores.

use std::io;

use rayon::prelude::*;
use serde::Serialize;

/// How many things make a piece.
const AT_A_TIME: usize = 1_024;

/// How many pieces are laid out before they are written: what is written needs no room any more.
const TOGETHER: usize = 16;

/// Lays out many things and hands out the pieces in their order.
pub(super) fn each<T: Sync>(
    things: &[T],
    lay_out: impl Fn(&[T]) -> io::Result<Vec<u8>> + Sync,
    mut take: impl FnMut(&[u8]) -> io::Result<()>,
) -> io::Result<()> {
    for some in things.chunks(AT_A_TIME * TOGETHER) {
        let pieces: Vec<_> = some.par_chunks(AT_A_TIME).map(&lay_out).collect();
        pieces.into_iter().try_for_each(|piece| take(&piece?))?;
    }
    Ok(())
}

/// Writes the JSON of what has a list in its field `items`; `without` is the same with an empty one.
pub(super) fn json<T: Serialize + Sync>(
    without: &impl Serialize,
    items: &[T],
    mut write: impl FnMut(&[u8]) -> io::Result<()>,
) -> io::Result<()> {
    #[derive(Serialize)]
    struct Alone<'a, T> {
        items: &'a [T],
    }
    const EMPTY: &str = "\"items\": []";
    const BEFORE: &[u8] = b"{\n  \"items\": [";
    const BEHIND: &[u8] = b"\n  ]\n}";

    let other = || io::Error::other("a list is not where it was looked for");
    let without = serde_json::to_string_pretty(without)?;
    // no text has this in it, since quotes in texts are written with a stroke before them
    let (before, behind) = without.split_once(EMPTY).ok_or_else(other)?;
    if items.is_empty() {
        return write(without.as_bytes());
    }
    write(before.as_bytes())?;
    write(b"\"items\": [")?;
    let lay_out = |some: &[T]| {
        let mut piece = serde_json::to_vec_pretty(&Alone { items: some })?;
        let length = piece.strip_suffix(BEHIND).ok_or_else(other)?.len();
        piece.truncate(length);
        Ok(piece)
    };
    let mut is_first = true;
    each(items, lay_out, |piece| {
        if !std::mem::take(&mut is_first) {
            write(b",")?;
        }
        write(piece.strip_prefix(BEFORE).ok_or_else(other)?)
    })?;
    write(b"\n  ]")?;
    write(behind.as_bytes())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[derive(Serialize)]
    struct Whole<'a> {
        schema: &'static str,
        items: &'a [(usize, &'static str)],
        nested: serde_json::Value,
    }

    fn whole<'a>(items: &'a [(usize, &'static str)]) -> Whole<'a> {
        let nested = serde_json::json!({ "items": [], "said": "\"items\": []" });
        Whole { schema: "\"items\": []", items, nested }
    }

    #[test]
    fn json_in_pieces_is_what_it_is_in_one() {
        for count in [0, 1, 2, AT_A_TIME, AT_A_TIME + 1, AT_A_TIME * TOGETHER + 1] {
            let items: Vec<(usize, &str)> =
                (0..count).map(|number| (number, "a \"text\"\n  ]\n}\n{\n  \"items\": [")).collect();
            let mut written = Vec::new();
            json(&whole(&[]), &items, |piece| {
                written.extend_from_slice(piece);
                Ok(())
            })
            .unwrap();
            assert_eq!(written, serde_json::to_vec_pretty(&whole(&items)).unwrap(), "{count}");
        }
    }

    #[test]
    fn an_error_ends_it() {
        let things: Vec<usize> = (0..3 * AT_A_TIME).collect();
        let mut taken = 0;
        let lay_out = |some: &[usize]| match some.contains(&(2 * AT_A_TIME)) {
            true => Err(io::Error::other("no")),
            false => Ok(vec![0; some.len()]),
        };
        let ended = each(&things, lay_out, |piece| {
            taken += piece.len();
            Ok(())
        });
        assert_eq!((ended.unwrap_err().to_string().as_str(), taken), ("no", 2 * AT_A_TIME));
    }
}
