//! Damaged files of every format: a table or a sentence, never a panic, and never for long.
//!
//! A short run is part of every test; `./test --slow` goes on for ten minutes a reader.
//! `PRONOIA_TEST_SEED` tries the one file again that a run has named.

use std::io::{Cursor, Read};
use std::time::{Duration, Instant};

use crate::files::{arrow, arrow_stream, batch, json_lines, ods, parquet, xlsx, zipped};
use arrow_ipc::CompressionType;
use arrow_ipc::writer::{FileWriter, IpcWriteOptions, StreamWriter};
use parquet::arrow::ArrowWriter;
use parquet::basic::{Compression, ZstdLevel};
use parquet::file::properties::WriterProperties;
use pronoia_core::intake::read_table;
use pronoia_core::progress::Unwatched;
use rand::{Rng, RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;

/// How long the long run goes on.
const LONG: Duration = Duration::from_mins(10);

/// Files of a short run.
const FEW: u64 = 150;

/// The longest that one small file may take.
const SLOWEST: Duration = Duration::from_secs(20);

/// Damages files again and again and reads them.
fn damage(format: &str, whole: &[Vec<u8>]) {
    let long = std::env::var_os("PRONOIA_TEST_SLOW").is_some();
    let begun = Instant::now();
    let named: Option<u64> = std::env::var("PRONOIA_TEST_SEED").ok().and_then(|seed| seed.parse().ok());
    // The long run begins where none has begun before; the seed is named if it fails.
    let first = named.unwrap_or_else(|| if long { rand::rng().next_u64() } else { 0 });
    let few = if named.is_some() { 1 } else { FEW };
    let mut tried = 0;
    while if long { begun.elapsed() < LONG } else { tried < few } {
        let seed = first.wrapping_add(tried);
        let mut rng = ChaCha8Rng::seed_from_u64(seed);
        let file = &whole[rng.random_range(0..whole.len())];
        let file = if file.starts_with(b"PK") && rng.random_bool(0.7) {
            inside(file, &mut rng)
        } else {
            damaged(file.clone(), &mut rng)
        };
        let started = Instant::now();
        let read = std::panic::catch_unwind(|| read_table(&file, &Unwatched));
        match read {
            Ok(Ok((table, scan))) => assert_eq!(table.rows() as u64, scan.rows, "{format}, seed {seed}"),
            Ok(Err(e)) => assert!(e.to_string().ends_with('.'), "{format}, seed {seed}: {e}"),
            Err(_) => panic!("{format}, seed {seed}: the reader panicked"),
        }
        assert!(started.elapsed() < SLOWEST, "{format}, seed {seed}: it took {:?}", started.elapsed());
        tried += 1;
    }
    println!("{format}: {tried} damaged files in {:?}", begun.elapsed());
}

/// Some bytes changed, lost, doubled or moved.
fn damaged(mut file: Vec<u8>, rng: &mut ChaCha8Rng) -> Vec<u8> {
    for _ in 0..rng.random_range(1..4) {
        if file.is_empty() {
            break;
        }
        let at = rng.random_range(0..file.len());
        let length = rng.random_range(1..=(file.len() - at).min(40));
        match rng.random_range(0..8) {
            0 => file[at..at + length].iter_mut().for_each(|byte| *byte = rng.random()),
            1 => file.truncate(at),
            2 => {
                file.drain(at..at + length);
            }
            3 => {
                let part = file[at..at + length].to_vec();
                file.splice(at..at, part);
            }
            4 => {
                let new: Vec<u8> = (0..length).map(|_| rng.random()).collect();
                file.splice(at..at, new);
            }
            5 => {
                // Lengths that no file has.
                let extreme = [0u64, 1, 0x7f, 0xff, 0x7fff_ffff, 0xffff_ffff, 1 << 40, i64::MAX as u64, u64::MAX];
                let bytes = extreme[rng.random_range(0..extreme.len())].to_le_bytes();
                let width = [1, 2, 4, 8][rng.random_range(0..4)].min(file.len() - at);
                file[at..at + width].copy_from_slice(&bytes[..width]);
            }
            6 => file[at] ^= 1 << rng.random_range(0..8),
            _ => {
                let other = rng.random_range(0..file.len());
                file.swap(at, other);
            }
        }
    }
    file
}

/// One part of an archive damaged, the archive itself whole.
fn inside(file: &[u8], rng: &mut ChaCha8Rng) -> Vec<u8> {
    let mut archive = zip::ZipArchive::new(Cursor::new(file)).expect("an archive");
    let mut parts: Vec<(String, Vec<u8>)> = (0..archive.len())
        .map(|at| {
            let mut part = archive.by_index(at).expect("a part");
            let mut bytes = Vec::new();
            part.read_to_end(&mut bytes).expect("bytes");
            (part.name().expect("a name").into_owned(), bytes)
        })
        .collect();
    let at = rng.random_range(0..parts.len());
    parts[at].1 = damaged(std::mem::take(&mut parts[at].1), rng);
    zipped(&parts.iter().map(|(name, bytes)| (name.as_str(), bytes.as_slice())).collect::<Vec<_>>())
}

fn ipc_options(packed: Option<CompressionType>) -> IpcWriteOptions {
    IpcWriteOptions::default().try_with_compression(packed).expect("options")
}

#[test]
fn parquet_files() {
    let packed = |compression| {
        let properties = WriterProperties::builder().set_compression(compression).set_max_row_group_row_count(Some(25));
        let mut bytes = Vec::new();
        let mut writer =
            ArrowWriter::try_new(&mut bytes, batch().schema(), Some(properties.build())).expect("a writer");
        writer.write(&batch()).expect("rows");
        writer.close().expect("an end");
        bytes
    };
    let zstd = packed(Compression::ZSTD(ZstdLevel::default()));
    damage("Parquet", &[parquet(&batch()), packed(Compression::SNAPPY), zstd, packed(Compression::LZ4_RAW)]);
}

#[test]
fn arrow_files() {
    let packed = |by| {
        let mut writer =
            FileWriter::try_new_with_options(Vec::new(), &batch().schema(), ipc_options(Some(by))).expect("a writer");
        writer.write(&batch()).expect("rows");
        writer.into_inner().expect("bytes")
    };
    damage("Arrow", &[arrow(&batch()), packed(CompressionType::LZ4_FRAME), packed(CompressionType::ZSTD)]);
}

#[test]
fn arrow_streams() {
    let packed = |by| {
        let mut writer =
            StreamWriter::try_new_with_options(Vec::new(), &batch().schema(), ipc_options(Some(by))).expect("a writer");
        writer.write(&batch()).expect("rows");
        writer.into_inner().expect("bytes")
    };
    damage(
        "Arrow stream",
        &[arrow_stream(&batch()), packed(CompressionType::LZ4_FRAME), packed(CompressionType::ZSTD)],
    );
}

#[test]
fn workbooks() {
    damage("XLSX", &[xlsx()]);
}

#[test]
fn open_documents() {
    damage("ODS", &[ods()]);
}

#[test]
fn json_lines_of_text() {
    let nested = b"{\"a\":{\"b\":[1,{\"c\":null}]},\"d\":\"\\u00e9\"}\n{\"a\":1.5e3,\"d\":true}\n".repeat(20);
    damage("JSON lines", &[json_lines(), nested]);
}

#[test]
fn delimited_text() {
    let mut text = String::from("id;\"a \"\"name\"\"\";fee;on;yes\n");
    for i in 0..50 {
        text += &format!("{i};\"Müller, {i}\nline\";{},5;{:02}.03.2024;{}\n", i * 100, 1 + i % 28, i % 2);
    }
    let utf16: Vec<u8> = [0xfeff].into_iter().chain(text.encode_utf16()).flat_map(u16::to_le_bytes).collect();
    let old: Vec<u8> = text.chars().map(|c| u8::try_from(u32::from(c)).unwrap_or(b'?')).collect();
    damage("Delimited text", &[text.clone().into_bytes(), utf16, old, text.replace(';', "\t").into_bytes()]);
}

/// A page that says it goes on for a thousand million values more than the file has.
#[test]
fn an_endless_page_comes_to_an_end() {
    let begun = Instant::now();
    let refused = read_table(include_bytes!("../found/endless_page.parquet"), &Unwatched).expect_err("damaged");
    assert!(refused.to_string().contains("damaged"), "{refused}");
    assert!(begun.elapsed() < Duration::from_secs(2), "{:?}", begun.elapsed());
}

/// Lengths in an Arrow file are room that its reader makes before it looks.
#[test]
fn no_length_of_an_arrow_file_is_believed_unseen() {
    let options = || ipc_options(Some(CompressionType::LZ4_FRAME));
    let mut file = FileWriter::try_new_with_options(Vec::new(), &batch().schema(), options()).expect("a writer");
    file.write(&batch()).expect("rows");
    let mut stream = StreamWriter::try_new_with_options(Vec::new(), &batch().schema(), options()).expect("a writer");
    stream.write(&batch()).expect("rows");
    for whole in [file.into_inner().expect("bytes"), stream.into_inner().expect("bytes")] {
        for at in (0..whole.len() - 8).step_by(4) {
            for length in [1u64 << 50, u64::from(u32::MAX >> 1), i64::MAX as u64] {
                let mut damaged = whole.clone();
                damaged[at..at + 8].copy_from_slice(&length.to_le_bytes());
                // The reader of files does not look at the length before a message.
                let unnamed = whole.windows(4).position(|w| w == [0xff; 4]).filter(|_| at % 8 == 0);
                if let Some(message) = unnamed {
                    damaged[message + 4..message + 8].fill(0);
                }
                if let Ok((table, _)) = read_table(&damaged, &Unwatched) {
                    assert!(table.rows() <= crate::files::ROWS, "at {at}");
                }
            }
        }
    }
}

/// A list of truths takes no room where a reader passes over it.
#[test]
fn no_list_in_the_footer_of_parquet_is_believed_unseen() {
    let whole = parquet(&batch());
    let footer = |bytes: &[u8]| {
        let mut file = whole.clone();
        file.extend_from_slice(bytes);
        file.extend_from_slice(&(bytes.len() as u32).to_le_bytes());
        file.extend_from_slice(b"PAR1");
        file
    };
    let endless = [0xff, 0xff, 0xff, 0xff, 0x07];
    let in_a_struct = [&[0x1c, 0x19, 0xf1], &endless[..], &[0, 0]].concat();
    for (bytes, says) in [
        ([&[0x19, 0xf1], &endless[..], &[0]].concat(), "longer than the footer"),
        ([&[0x1b], &endless[..], &[0x11, 0]].concat(), "longer than the footer"),
        (in_a_struct, "longer than the footer"),
        (vec![0x1c; 200], "nested without end"),
        (vec![0x15, 0x80, 0x80], "cut short"),
        (vec![0x1e, 0], "no value"),
    ] {
        let begun = Instant::now();
        let refused = read_table(&footer(&bytes), &Unwatched).expect_err("damaged").to_string();
        assert!(refused.contains(says), "{bytes:?}: {refused}");
        assert!(begun.elapsed() < Duration::from_secs(1), "{bytes:?} took {:?}", begun.elapsed());
    }
    assert!(read_table(&whole, &Unwatched).is_ok(), "a whole file has a whole footer");
}

/// A table whose end never comes would be looked for for ever.
#[test]
fn an_open_document_that_is_cut_off_is_refused() {
    let whole = ods();
    let mut archive = zip::ZipArchive::new(Cursor::new(&whole)).expect("an archive");
    let mut content = String::new();
    archive.by_name("content.xml").expect("sheets").read_to_string(&mut content).expect("text");
    let places: Vec<usize> = (0..content.len()).filter(|&at| content.is_char_boundary(at)).collect();
    for &at in places.iter().step_by(7) {
        let cut = zipped(&[
            ("mimetype", b"application/vnd.oasis.opendocument.spreadsheet"),
            ("content.xml", &content.as_bytes()[..at]),
        ]);
        let refused = read_table(&cut, &Unwatched).expect_err("cut off").to_string();
        assert!(refused.ends_with('.'), "{refused}");
    }
    let renamed = content.replacen("</table:table-row>", "</table:table-roe>", 1);
    let crossed =
        zipped(&[("mimetype", b"application/vnd.oasis.opendocument.spreadsheet"), ("content.xml", renamed.as_bytes())]);
    assert!(read_table(&crossed, &Unwatched).expect_err("crossed").to_string().contains("content.xml is broken"));
}
