use super::rewrite::{Assembly, Piece, lay_out};
use super::write::Writer;
use super::*;

fn sample() -> Vec<u8> {
    Writer::new()
        .deflated("AndroidManifest.xml", &[7; 3000])
        .stored("lib/arm64-v8a/libferry.so", &[1; 5000])
        .stored("assets/empty.txt", b"")
        .stored("assets/größe.txt", b"twelve bytes")
        .finish()
}

fn faults(bytes: &[u8]) -> Vec<ZipFault> {
    Archive::open(&bytes, Zip64::Refuse, &Limits::USUAL).unwrap().faults
}

fn find(bytes: &[u8], what: &[u8]) -> usize {
    bytes.windows(what.len()).position(|window| window == what).unwrap()
}

fn rfind(bytes: &[u8], what: &[u8]) -> usize {
    bytes.windows(what.len()).rposition(|window| window == what).unwrap()
}

#[test]
fn what_is_written_is_read_back() {
    let bytes = sample();
    let archive = Archive::open(&bytes, Zip64::Refuse, &Limits::USUAL).unwrap();
    assert_eq!(archive.faults, []);
    assert_eq!(archive.entries.len(), 4);
    let entry = archive.find(b"AndroidManifest.xml").unwrap();
    assert_eq!(entry.method, DEFLATED);
    assert_eq!(archive.read(&bytes, entry, &Limits::USUAL).unwrap(), [7; 3000]);
}

#[test]
fn a_copy_is_aligned_and_keeps_every_content() {
    let bytes = sample();
    let archive = Archive::open(&bytes, Zip64::Refuse, &Limits::USUAL).unwrap();
    let boundary = |e: &Entry| if e.name.ends_with(b".so") { 16384 } else { 4 };
    let layout = lay_out(&archive, &[], |_| true, boundary);
    let end = write::end_record(layout.count, layout.directory.len() as u32, layout.body as u32);
    let pieces = layout.pieces.into_iter().chain([Piece::Bytes(layout.directory), Piece::Bytes(end)]);
    let copy = Assembly::new(&bytes, pieces);
    let copy = copy.bytes(0..copy.len(), u64::MAX).unwrap();
    let again = Archive::open(&copy, Zip64::Refuse, &Limits::USUAL).unwrap();
    assert_eq!(again.faults, []);
    for (old, new) in archive.entries.iter().zip(&again.entries) {
        assert_eq!(old.name, new.name);
        let content = |a: &Archive, b: &Vec<u8>, e| a.read(b, e, &Limits::USUAL).unwrap();
        assert_eq!(content(&archive, &bytes, old), content(&again, &copy, new));
        if new.method == STORED {
            assert_eq!(new.data_at % boundary(new), 0, "{}", new.name_text());
        }
    }
    // a second opinion on the layout
    let mut other = ::zip::ZipArchive::new(std::io::Cursor::new(copy)).unwrap();
    assert_eq!(other.len(), 4);
    for at in 0..4 {
        std::io::copy(&mut other.by_index(at).unwrap(), &mut std::io::sink()).unwrap();
    }
}

#[test]
fn an_assembly_reads_the_same_at_any_position() {
    let original = (0..=255u8).collect::<Vec<_>>();
    let pieces = [Piece::Copy(10..20), Piece::Bytes(vec![0xaa; 5]), Piece::Bytes(vec![]), Piece::Copy(0..3)];
    let assembly = Assembly::new(&original, pieces);
    let whole = assembly.bytes(0..18, 18).unwrap();
    assert_eq!(whole, [&original[10..20], &[0xaa; 5], &original[0..3]].concat());
    for start in 0..18u64 {
        for end in start..=18 {
            let part = assembly.bytes(start..end, 18).unwrap();
            assert_eq!(part, whole[start as usize..end as usize]);
        }
    }
    assert!(assembly.bytes(10..19, 100).is_err());
}

#[test]
fn what_is_no_archive_says_so() {
    let open = |bytes: &[u8]| Archive::open(&bytes, Zip64::Refuse, &Limits::USUAL).unwrap_err();
    assert!(matches!(open(b""), ZipError::Empty));
    assert!(matches!(open(&[b'x'; 4000]), ZipError::NotAnArchive));
    assert!(matches!(open(b"PK\x05\x06"), ZipError::Truncated));
    let whole = sample();
    for end in [1000, whole.len() - 1, whole.len() - 21] {
        assert!(matches!(open(&whole[..end]), ZipError::Truncated), "cut at {end}");
    }
}

#[test]
fn a_name_that_stands_twice_is_a_fault() {
    let bytes = Writer::new().stored("classes.dex", b"one").stored("classes.dex", b"two").finish();
    assert_eq!(faults(&bytes), [ZipFault::DuplicateName("classes.dex".into())]);
}

#[test]
fn names_that_leave_the_folder_are_faults() {
    for name in ["../x", "/etc/x", "a/../b", "a//b", "a\\b", "C:x", "", "a/\0b", "."] {
        let bytes = Writer::new().stored(name, b"x").finish();
        assert_eq!(faults(&bytes), [ZipFault::UnsafeName(name.into())], "{name:?}");
    }
    assert_eq!(faults(&Writer::new().stored("a/", b"").stored("..a/b..", b"").finish()), []);
}

#[test]
fn local_headers_that_disagree_are_faults() {
    let good = sample();
    let header = find(&good, b"PK\x03\x04");
    for (offset, field) in
        [(6, "flags"), (8, "method"), (14, "checksum"), (18, "compressed size"), (22, "size"), (30, "name")]
    {
        let mut bytes = good.clone();
        bytes[header + offset] ^= 0x40;
        let found = faults(&bytes);
        let wanted = ZipFault::Disagreement { name: "AndroidManifest.xml".into(), field };
        assert!(found.contains(&wanted), "{field}: {found:?}");
    }
}

#[test]
fn sizes_of_four_gibibytes_are_faults_and_take_no_memory() {
    let mut bytes = sample();
    let central = find(&bytes, b"PK\x01\x02");
    bytes[central + 20..central + 28].copy_from_slice(&[0xff; 8]);
    let found = faults(&bytes);
    assert!(found.contains(&ZipFault::Zip64), "{found:?}");
    assert!(found.contains(&ZipFault::DataOutside("AndroidManifest.xml".into())), "{found:?}");
    let mut bytes = sample();
    let end = rfind(&bytes, b"PK\x05\x06");
    bytes[end + 12..end + 16].copy_from_slice(&[0xff; 4]);
    assert!(matches!(Archive::open(&bytes, Zip64::Refuse, &Limits::USUAL), Err(ZipError::Truncated)));
}

#[test]
fn bytes_that_belong_to_nothing_are_faults() {
    let good = sample();
    let behind = [good.clone(), b"tail".to_vec()].concat();
    assert!(matches!(faults(&behind)[..], [ZipFault::Stray { place: "after the end record", .. }]));
    // bytes in front, with every offset moved along
    let front = shifted(b"#!/bin/sh\n");
    assert!(matches!(faults(&front)[..], [ZipFault::Stray { place: "before the first entry", .. }]));
}

/// The sample behind `front`, its offsets counted from the new start.
fn shifted(front: &[u8]) -> Vec<u8> {
    let mut bytes = sample();
    let by = front.len() as u32;
    let end = rfind(&bytes, b"PK\x05\x06");
    let mut places = vec![end + 16];
    let central: Vec<usize> =
        bytes.windows(4).enumerate().filter(|(_, w)| w == b"PK\x01\x02").map(|(at, _)| at).collect();
    places.extend(central.iter().map(|at| at + 42));
    for at in places {
        let old = u32::from_le_bytes(bytes[at..at + 4].try_into().unwrap());
        bytes[at..at + 4].copy_from_slice(&(old + by).to_le_bytes());
    }
    [front, &bytes].concat()
}

#[test]
fn free_space_in_front_is_no_fault_when_it_is_exactly_that() {
    let mut record = b"PK\x03\x04".to_vec();
    record.resize(28, 0);
    record.extend_from_slice(&102u16.to_le_bytes());
    record.resize(132, 0);
    assert_eq!(faults(&shifted(&record)), []);
    record[131] = 1;
    assert_eq!(faults(&shifted(&record)).len(), 1);
}

#[test]
fn a_second_end_in_the_comment_is_a_fault() {
    let mut bytes = sample();
    let end = rfind(&bytes, b"PK\x05\x06");
    let inner = bytes[end..].to_vec();
    bytes[end + 20..end + 22].copy_from_slice(&(inner.len() as u16).to_le_bytes());
    let at = bytes.len() as u32;
    bytes.extend_from_slice(&inner);
    // the inner record describes the same directory, so a reader could take either
    let found = faults(&bytes);
    assert!(found.contains(&ZipFault::SecondEnd), "{found:?} {at}");
}

#[test]
fn overlapping_entries_are_a_fault() {
    let mut bytes = Writer::new().stored("a", b"same").stored("a2", b"same").finish();
    let second = rfind(&bytes, b"PK\x01\x02");
    bytes[second + 42..second + 46].copy_from_slice(&0u32.to_le_bytes());
    let found = faults(&bytes);
    assert!(found.iter().any(|f| matches!(f, ZipFault::Overlap(..))), "{found:?}");
}

#[test]
fn an_encrypted_entry_and_an_unknown_method_are_faults() {
    let mut bytes = sample();
    for (signature, flags) in [(b"PK\x03\x04", 6), (b"PK\x01\x02", 8)] {
        let at = find(&bytes, signature);
        bytes[at + flags] |= 1;
        bytes[at + flags + 2] = 12;
    }
    let name = "AndroidManifest.xml".to_owned();
    assert_eq!(faults(&bytes), [ZipFault::Encrypted(name.clone()), ZipFault::Method(name, 12)]);
}

#[test]
fn content_that_does_not_inflate_to_what_is_said_is_refused() {
    let good = sample();
    let data = Archive::open(&good, Zip64::Refuse, &Limits::USUAL).unwrap().entries[0].data();
    let mut bytes = good.clone();
    bytes[data.start as usize + 3] ^= 0xff;
    let archive = Archive::open(&bytes, Zip64::Refuse, &Limits::USUAL).unwrap();
    assert!(archive.read(&bytes, &archive.entries[0], &Limits::USUAL).is_err());
    let tight = Limits { inflated: 100, ..Limits::USUAL };
    let archive = Archive::open(&good, Zip64::Refuse, &tight).unwrap();
    let error = archive.read(&good, &archive.entries[0], &tight).unwrap_err();
    assert!(error.to_string().contains("above the limit of 100"), "{error}");
}

#[test]
fn a_stream_gives_the_same_content_and_refuses_the_same_damage() {
    let large: Vec<u8> = (0..900_000u32).map(|at| (at / 7 % 251) as u8).collect();
    let bytes = Writer::new().deflated("a", &large).stored("b", &large).deflated("c", b"").finish();
    let archive = Archive::open(&bytes, Zip64::Refuse, &Limits::USUAL).unwrap();
    let content = |bytes: &Vec<u8>, entry: &Entry| {
        let mut out = Vec::new();
        entry
            .stream(bytes, &mut |window| {
                out.extend_from_slice(window);
                true
            })
            .map(|()| out)
    };
    for entry in &archive.entries {
        assert_eq!(content(&bytes, entry).unwrap(), archive.read(&bytes, entry, &Limits::USUAL).unwrap());
        let wrong = Entry { size: entry.size + 1, ..entry.clone() };
        assert!(content(&bytes, &wrong).is_err(), "a size that is not reached");
        let wrong = Entry { crc: entry.crc ^ 1, ..entry.clone() };
        assert!(content(&bytes, &wrong).is_err(), "another checksum");
    }
    let deflated = &archive.entries[0];
    let short = Entry { compressed: deflated.compressed - 3, ..deflated.clone() };
    assert!(content(&bytes, &short).is_err(), "a stream that ends early");
    let long = Entry { compressed: deflated.compressed + 3, ..deflated.clone() };
    assert!(content(&bytes, &long).is_err(), "a stream that ends late");
    let small = Entry { size: 10, ..deflated.clone() };
    assert!(content(&bytes, &small).is_err(), "more than is stated");
}

/// An archive whose entry says other sizes in directory and local header alike.
fn lying(content: &[u8], says: u32) -> Vec<u8> {
    let mut bytes = Writer::new().deflated("a", content).finish();
    let entry = Archive::open(&bytes.as_slice(), Zip64::Refuse, &Limits::USUAL).unwrap().entries.remove(0);
    let at = usize::try_from(entry.header_at).unwrap();
    bytes[at + 22..at + 26].copy_from_slice(&says.to_le_bytes());
    let directory = bytes.windows(4).rposition(|window| window == b"PK\x01\x02").unwrap();
    bytes[directory + 24..directory + 28].copy_from_slice(&says.to_le_bytes());
    bytes
}

#[test]
fn sizes_that_no_compression_gives_are_faults() {
    let faults = |bytes: &[u8]| Archive::open(&bytes, Zip64::Refuse, &Limits::USUAL).unwrap().faults;
    let zeros = vec![0; 4 << 20];
    assert!(faults(&lying(&zeros, 4 << 20)).is_empty(), "what is true is no fault");
    for says in [10, u32::MAX - 1] {
        let found = faults(&lying(&zeros, says));
        assert!(found.iter().any(|f| matches!(f, ZipFault::Impossible { .. })), "{says}: {found:?}");
    }
}

#[test]
fn far_more_than_the_file_is_a_fault_and_not_read_whole() {
    let zeros = vec![0; 40 << 20];
    let few = Writer::new().deflated("a", &zeros).finish();
    let archive = Archive::open(&few.as_slice(), Zip64::Refuse, &Limits::USUAL).unwrap();
    assert!(archive.faults.is_empty() && archive.is_readable_whole(), "{:?}", archive.faults);
    let many = Writer::new().deflated("a", &zeros).deflated("b", &zeros).deflated("c", &zeros).finish();
    let archive = Archive::open(&many.as_slice(), Zip64::Refuse, &Limits::USUAL).unwrap();
    assert!(matches!(archive.faults.as_slice(), [ZipFault::Inflates { .. }]), "{:?}", archive.faults);
    assert!(!archive.is_readable_whole());
}

#[test]
fn a_stream_ends_where_its_taker_wants_no_more() {
    let bytes = Writer::new().deflated("a", &vec![7; 8 << 20]).finish();
    let archive = Archive::open(&bytes.as_slice(), Zip64::Refuse, &Limits::USUAL).unwrap();
    let mut taken = 0;
    let ended = archive.entries[0].stream(&bytes.as_slice(), &mut |window| {
        taken += window.len();
        taken < 1 << 20
    });
    assert!(matches!(ended, Err(ZipError::Stopped)), "{ended:?}");
    assert!(taken < 2 << 20, "{taken}");
}

/// The same archive as one of zip64: sizes and offset of its first entry, those of the directory and the counts stand where
/// 64 bits are.
fn as_zip64(plain: &[u8]) -> Vec<u8> {
    let archive = Archive::open(&plain, Zip64::Refuse, &Limits::USUAL).unwrap();
    let (from, to) = (archive.directory.start as usize, archive.directory.end as usize);
    let mut directory = plain[from..to].to_vec();
    let first = &archive.entries[0];
    let mut extra = vec![1, 0, 24, 0];
    for value in [first.size, first.compressed, first.header_at] {
        extra.extend_from_slice(&value.to_le_bytes());
    }
    directory[20..28].fill(0xff);
    directory[42..46].fill(0xff);
    directory[30..32].copy_from_slice(&(extra.len() as u16).to_le_bytes());
    let at = 46 + first.name.len();
    directory.splice(at..at, extra);
    let mut out = [&plain[..from], &directory].concat();
    let record_at = out.len() as u64;
    out.extend_from_slice(b"PK\x06\x06");
    out.extend_from_slice(&44u64.to_le_bytes());
    out.extend_from_slice(&[45, 0, 45, 0, 0, 0, 0, 0, 0, 0, 0, 0]);
    let count = archive.entries.len() as u64;
    for value in [count, count, directory.len() as u64, from as u64] {
        out.extend_from_slice(&value.to_le_bytes());
    }
    out.extend_from_slice(b"PK\x06\x07\0\0\0\0");
    out.extend_from_slice(&record_at.to_le_bytes());
    out.extend_from_slice(&[1, 0, 0, 0]);
    let mut end = plain[archive.end_record.start as usize..].to_vec();
    end[8..20].fill(0xff);
    out.extend_from_slice(&end);
    out
}

#[test]
fn zip64_is_read_where_it_may_be_and_a_fault_elsewhere() {
    let plain = sample();
    let wide = as_zip64(&plain);
    let read = Archive::open(&wide, Zip64::Read, &Limits::USUAL).unwrap();
    assert_eq!(read.faults, []);
    let before = Archive::open(&plain, Zip64::Read, &Limits::USUAL).unwrap();
    for (one, other) in before.entries.iter().zip(&read.entries) {
        assert_eq!((&one.name, one.data(), one.size), (&other.name, other.data(), other.size));
        let content = |archive: &Archive, bytes: &Vec<u8>| archive.read(bytes, one, &Limits::USUAL).unwrap();
        assert_eq!(content(&before, &plain), content(&read, &wide));
    }
    let refused = Archive::open(&wide, Zip64::Refuse, &Limits::USUAL);
    assert!(refused.is_err() || refused.unwrap().faults.contains(&ZipFault::Zip64));
}

#[test]
fn every_cut_and_every_lie_of_zip64_is_an_error_or_a_fault() {
    let wide = as_zip64(&sample());
    for end in 0..wide.len() {
        let cut = wide[..end].to_vec();
        assert!(Archive::open(&cut, Zip64::Read, &Limits::SMALL).is_err(), "cut at {end}");
    }
    let records = find(&wide, b"PK\x06\x06");
    for at in records..wide.len() {
        let mut bytes = wide.clone();
        bytes[at] ^= 0x80;
        let quiet = Archive::open(&bytes, Zip64::Read, &Limits::SMALL).is_ok_and(|a| a.faults.is_empty());
        let at = at - records;
        // the versions, the locator's disks, and what the old end record says of disks and directory decide nothing
        let decides_nothing = (12..16).contains(&at)
            || (60..64).contains(&at)
            || (72..76).contains(&at)
            || (80..96).contains(&at);
        assert_eq!(quiet, decides_nothing, "byte {at}");
    }
}
