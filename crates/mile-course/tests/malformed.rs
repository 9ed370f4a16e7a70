//! Two hundred courses with a mistake each: told at the right place, in words that help, and never with a panic.
//!
//! Where the mistake is, the `«` in front of it says; it is taken out before the course is read. Each mistake stands once in a plain
//! course, once in a sweep, once in a repeat and once in a battery. What is said of all of them is kept in malformed.said, so that a
//! change of words is seen; `UPDATE=1 cargo test -p mile-course --test malformed` writes it anew.

use mile_course::{format, parse};

/// Clauses of a leg that writes, and what is said of each.
const IN_A_WRITE: [(&str, &str); 34] = [
    ("write «sequental, blocks 1 MiB", "`sequential` or `random`"),
    ("write sequential, blocks «MiB", "a size"),
    ("write sequential, blocks 1 «XiB", "a unit"),
    ("write sequential, «blocks 1000 B", "multiple of 512 B"),
    ("write sequential, «blocks 128 MiB", "at most 64 MiB"),
    ("write sequential, blocks 1 MiB, «depth 0", "from 1 to 1024"),
    ("write sequential, blocks 1 MiB, «depth 2.5", "from 1 to 1024"),
    ("write sequential, blocks 1 MiB, depth «many", "how many operations"),
    ("write sequential, blocks 1 MiB, «dept 4", "what the leg does"),
    ("write sequential, blocks 1 MiB, «workers 300", "from 1 to 256"),
    ("write sequential, blocks 1 MiB, rate 100 MB«", "`/s`"),
    ("write sequential, blocks 1 MiB, rate «0 MB/s", "never moves"),
    ("write sequential, blocks 1 MiB, over «50 % to 10 %", "this range is empty"),
    ("write sequential, blocks 1 MiB, over 0 % to «110 %", "at most 100 %"),
    ("write sequential, blocks 1 MiB, over 0 % «50 %", "`to`"),
    ("write sequential, blocks 1 MiB, over 10 % from the «back", "`front` or `end`"),
    ("write sequential, blocks 1 MiB, until «tomorrow", "what ends the leg"),
    ("write sequential, blocks 1 MiB, until 600 GB«", "`written`"),
    ("write sequential, blocks 1 MiB, until 5 «parsecs", "a unit"),
    ("write sequential, blocks 1 MiB, until temperature «under 40 °C", "`below` or `above`"),
    ("write sequential, blocks 1 MiB, until temperature below 40«", "`°C`"),
    ("write sequential, blocks 1 MiB, until steady«", "`state`"),
    ("write sequential, blocks 1 MiB, until steady state in rounds of «10 ms", "at least 1 s"),
    ("«write sequential, blocks 1 MiB, until a break", "may never end"),
    ("«write sequential, blocks 1 MiB, until temperature above 70 °C", "may never end"),
    ("write sequential, blocks 1 MiB, at «least 5 min", "`most`"),
    ("write sequential, blocks 1 MiB, «reads 50 %", "only a mix"),
    ("write sequential, blocks 1 MiB, «zones 10", "only a scan"),
    ("write sequential, blocks 1 MiB, incompressible «140 %", "at most 100 %"),
    ("«write sequential, blocks 4 KiB, shifted by 100 B", "multiple of 512 B"),
    ("write sequential, blocks 1 MiB, through the «roof", "`cache`"),
    ("write sequential, blocks 1 MiB, depth 4, «depth 8", "said twice"),
    ("write sequential, blocks 1 MiB, «rest for 1 s", "one thing only"),
    ("«write sequential", "how large its blocks are"),
];

/// Legs of other kinds.
const OTHERS: [(&str, &str); 34] = [
    ("ask \"fan on\", «over 0 % to 10 %", "does not belong to a word"),
    ("discard, «at most 5 min", "does not belong to a discard"),
    ("«expect 5 GB written", "only a temperature or a reading"),
    ("expect temperature below 40 °C, «over 0 % to 10 %", "does not belong to what is expected"),
    ("expect temperature below 40 °C for 1 min, «at most 10 s", "has to hold for longer"),
    ("expect temperature «under 40 °C", "`below` or `above`"),
    ("«rest", "never ends"),
    ("«rest until temperature below 40 °C", "may never end"),
    ("rest for «ever", "a time"),
    ("«rest until 5 GB written", "nothing is moved in a rest"),
    ("rest for 1 s, «depth 4", "does not belong to a rest"),
    ("«mixed random, blocks 4 KiB", "how much of it is reads"),
    ("mixed random, blocks 4 KiB, reads 70«", "`%`"),
    ("fill «up", "`to`"),
    ("fill to 50 %, «over 0 % to 10 %", "goes from the front"),
    ("fill to «lots", "a share or an address"),
    ("flush, «depth 4", "does not belong to a flush"),
    ("discard over 0 % to 10 %, «depth 4", "does not belong to a discard"),
    ("health, «depth 4", "does not belong to a look"),
    ("ask «fan on", "double quotes"),
    ("verify, blocks 1 MiB, «incompressible 50 %", "only what is written"),
    ("«blocks 1 MiB", "begins with what it does"),
    ("files «move", "`write` or `read` or `delete` or `copy`"),
    ("files copy «to \"/a\"", "`from`"),
    ("files copy from «here", "double quotes"),
    ("«files write, count 10", "how large its files are"),
    ("«files write, sizes 4 KiB", "how many files"),
    ("files write, sizes 4 KiB, «count 1.5", "a whole number of files"),
    ("files write, sizes «64 KiB to 4 KiB, count 10", "from the smaller one"),
    ("files write, sizes «50 % of 4 KiB and 40 % of 8 KiB, count 10", "add up to 100 %"),
    ("files write, sizes «50 % of 4 KiB and 8 KiB, count 10", "add up to 100 %"),
    ("files read, «sizes 4 KiB", "only files that are written"),
    ("files delete, «through the cache", "does not belong to a leg that works with files"),
    ("files write, sizes 4 KiB, count 10, sync «always", "`each` or `at`"),
];

/// Lines outside of legs.
const OUTSIDE: [(&str, &str); 24] = [
    ("sample «evry 1 s", "`every`"),
    ("sample every «1 ms", "10 ms to 60 s"),
    ("health every «1 s", "at the most often"),
    ("«smaple every 1 s", "a setting or a leg"),
    ("stop «when temperature above 80 °C", "`if`"),
    ("stop if «80 °C", "`temperature`"),
    ("stop if errors above «1.5", "whole numbers"),
    ("stop if operation above «2 h", "100 ms to 1 h"),
    ("stop if others above 10 MB«", "`/s`"),
    ("rest if «errors above 5 until below 40 °C", "helps against heat"),
    ("rest if temperature above 80 °C«", "`until`"),
    ("rest if temperature above 60 °C until below «70 °C", "not below"),
    ("claim «erase 10 MB/s", "`write`"),
    ("claim write «fast", "a rate"),
    ("situation «colour \"red\"", "`slot`"),
    ("situation cooling «bare", "double quotes"),
    ("demand recorder «quick", "a rate"),
    ("demand recorder 10 MB/s, «bufer 4 GB", "`buffer` or `until`"),
    ("demand array 96 channels x 512 «Mb x 3 B", "`Hz`"),
    ("«end", "nothing here to end"),
    ("use «nothing", "there is no battery"),
    ("for depth in 1 to 8 «step 2\nleg x\n rest for 1 s\nend", "`by` or `times`"),
    ("for depth in «8 to 1 by 1\nleg x\n rest for 1 s\nend", "goes nowhere"),
    ("repeat «0\nleg x\n rest for 1 s\nend", "from 1 to"),
];

/// Every mistake in every surrounding, with what is said of it.
fn courses() -> Vec<(String, &'static str)> {
    let mut all = Vec::new();
    for (clauses, words) in IN_A_WRITE.into_iter().chain(OTHERS) {
        for around in [
            "course \"m\"\nleg a\n  HERE\nleg z\n  rest for 1 s\n",
            "course \"m\"\nfor size in 4 KiB, 8 KiB\n  leg a\n    HERE\nend\n",
            "course \"m\"\nleg z\n  rest for 1 s\nrepeat 2\n  leg a\n    HERE\nend\n",
            "course \"m\"\nbattery b\n  leg a\n    HERE\nend\nuse b\n",
        ] {
            all.push((around.replace("HERE", clauses), words));
        }
    }
    for (line, words) in OUTSIDE {
        all.push((format!("course \"m\"\n{line}\nleg z\n  rest for 1 s\n"), words));
    }
    let mut whole = |text: &str, words| all.push((text.to_owned(), words));
    whole("«", "no leg");
    whole("course «m\nleg a\n rest for 1 s\n", "double quotes");
    whole("course «\"m\nleg a\n rest for 1 s\n", "not closed");
    whole("«leg a\n rest for 1 s\n", "`course` and a name");
    whole("course \"m\"\nleg «\n rest for 1 s\n", "a name for the leg");
    whole("course \"m\"\nleg a\n rest for 1 s\nleg «a\n rest for 2 s\n", "already on line 2");
    whole("course \"m\"\nleg «\"a / b\"\n rest for 1 s\n", "no `/`");
    whole("course \"m\"\nleg «a\n", "does nothing");
    whole("course \"m\"\n«repeat 2\nleg a\n rest for 1 s\n", "not closed");
    whole("course \"m\"\n«for x in 1, 2\nleg a\n rest for 1 s\n", "not closed");
    whole("course \"m\"\n«battery b\nleg a\n rest for 1 s\nend\nleg z\n rest for 1 s\n", "never used");
    whole("course \"m\"\nbattery b\nuse «b\nend\nuse b\nleg z\n rest for 1 s\n", "cannot use itself");
    whole("course \"m\"\nfor x in 1, 1\nleg «a\n rest for 1 s\nend\n", "already on line");
    whole("course \"m\"\nfor n in 1, 2\nleg a\n write random, blocks «n\nend\n", "a plain number; a unit");
    whole("course \"m\"\nfor t in 1 s, 2 s\nleg a\n write random, blocks «t\nend\n", "a number in s");
    whole(
        "course \"m\"\nfor t in 1 s, 2 s\nleg a\n write random, blocks 1 MiB, depth «t\nend\n",
        "a plain number",
    );
    whole("course \"m\"\nrepeat 400\nrepeat 400\nleg «a\n rest for 1 s\nend\nend\n", "more than 100000 legs");
    all
}

#[test]
fn two_hundred_mistakes_are_told_at_their_place() {
    let courses = courses();
    assert!(courses.len() >= 200, "{}", courses.len());
    let mut said = String::new();
    for (marked, words) in &courses {
        let text = marked.replace('«', "");
        let before: Vec<&str> = marked.split('«').next().unwrap().split('\n').collect();
        let (line, column) = (before.len(), before.last().unwrap().chars().count() + 1);
        let errors = parse(&text).expect_err(marked);
        let at_place = |e: &&mile_course::Diagnostic| (e.span.line, e.span.column) == (line, column);
        let told = errors.iter().find(at_place);
        let told =
            told.unwrap_or_else(|| panic!("{marked}\nwanted line {line}, column {column}\n{errors:#?}"));
        let all = format!("{} {}", told.message, told.hint.clone().unwrap_or_default());
        assert!(all.contains(words), "{marked}\nwanted {words}\n{told:?}");
        assert!(
            errors.len() <= 2,
            "one mistake, and at most one that follows from it: {marked}\n{errors:#?}"
        );
        assert!(told.message.len() < 200 && !told.message.ends_with('.'), "{told:?}");
        assert!(format(&text).is_err(), "what cannot be read is not written anew");
        said.push_str(&text);
        errors.iter().for_each(|e| said.push_str(&format!("    -> {e}\n")));
        said.push('\n');
    }
    let path = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/malformed.said");
    if std::env::var_os("UPDATE").is_some() {
        std::fs::write(&path, &said).unwrap();
    }
    let kept = std::fs::read_to_string(&path).unwrap();
    assert!(
        kept == said,
        "what is said has changed; look at it, and write {} anew with UPDATE=1",
        path.display()
    );
}

/// A megabyte of lines that cannot be read, groups within groups, long words and places: each is answered with no more messages than
/// anybody reads, and with no more work than its length.
#[test]
fn hostile_texts_are_answered_briefly() {
    let nested = {
        let mut text = "course \"c\"\n".to_owned();
        for i in 0..12 {
            text += &format!("battery b{i}\n");
            for _ in 0..10 {
                text += &(if i == 0 { "leg l\n rest for 1 s\n".into() } else { format!("use b{}\n", i - 1) });
            }
            text += "end\n";
        }
        text + "use b11\n"
    };
    let empty = nested.replace("leg l\n rest for 1 s\n", "");
    let texts = [
        "course \"c\"\n".to_owned() + &"what is this\n".repeat(80_000),
        "course \"c\"\nleg a\n".to_owned() + &" write sideways, blocks 7 parsecs\n".repeat(30_000),
        "course \"c\"\n".to_owned() + &"leg a\n".repeat(100_000),
        format!("course \"c\"\nleg a\n write {}\n", "x".repeat(1 << 20)),
        format!("course \"c\"\nleg a\n write {}\n", "sequential, ".repeat(300_000)),
        format!("course \"c\"\nleg a\n {}nonsense\n", " ".repeat(70_000)),
        "repeat 9\n".repeat(100_000),
        format!("course \"{}", "\"".repeat(500_000)),
        nested,
        empty,
    ];
    for text in texts {
        let errors = mile_course::parse(&text).unwrap_err();
        let shown = mile_course::diagnostic::render(&errors, &text);
        let size: usize = shown.iter().map(String::len).sum();
        assert!((1..=201).contains(&errors.len()) && size < 200_000, "{} {size}", errors.len());
        assert!(errors.iter().all(|e| e.to_string().len() < 1000));
    }
}

#[test]
fn a_time_that_no_run_takes_is_refused_and_a_long_run_is_sampled_less_often() {
    let rest = |time: &str| format!("course \"c\"\nleg a\n rest for {time}\n");
    let errors = mile_course::parse(&rest("99999999999999999999 d")).unwrap_err();
    assert!(errors[0].message.contains("at most 3650 d"), "{}", errors[0]);
    let facts = mile_course::DriveFacts {
        capacity: mile_core::Bytes(1 << 40),
        logical_block: mile_core::Bytes(512),
        has_temperature: true,
        readable: true,
        cache: None,
        files: None,
    };
    let plan = mile_course::plan(&mile_course::parse(&rest("3650 d")).unwrap(), &facts).unwrap();
    assert!(
        plan.sample_every.secs() * 1.5e6 >= 3650.0 * 86_400.0
            && plan.notes[0].contains("A sample is taken every")
    );
    let plan = mile_course::plan(&mile_course::parse(&rest("7 h")).unwrap(), &facts).unwrap();
    assert!(plan.notes.is_empty());
}
