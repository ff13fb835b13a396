//! The same input gives the same bytes, whatever the threads and the memory; every block is decoded once.

use telechroma_testkit::program::files_below;

use crate::season;

const CAMPAIGN: &str = r#"
[mask]
grow = "60m"
[composite]
every = "month"
bands = "all"
[layers]
use = ["ndvi", "lst"]
[plots]
file = "plots.geojson"
stats = ["mean", "sd", "median", "sum", "p10"]
[output]
tables = ["csv", "geojson"]
pictures = true
"#;

#[test]
fn bytes_are_the_same_for_one_two_and_five_threads_and_little_memory() {
    let (dir, _scenes, p) = season(6);
    std::fs::write(dir.path().join("c.toml"), CAMPAIGN).unwrap();
    let mut first = None;
    for (n, limits) in
        [["--threads", "1"], ["--threads", "2"], ["--threads", "5"], ["--memory", "200MB"]].iter().enumerate()
    {
        let out = format!("out{n}");
        p.ok(&[&["run", "c.toml", "-q", "--out", &out], &limits[..]].concat());
        let mut files = files_below(&dir.path().join(&out));
        let record = files.remove("run.json").unwrap();
        let mut record: serde_json::Value = serde_json::from_slice(&record).unwrap();
        assert!(record.as_object_mut().unwrap().remove("measured").is_some());
        assert_eq!(record["counts"]["blocks_decoded_again"], 0);
        assert!(record["counts"]["blocks_decoded"].as_u64().unwrap() <= record["counts"]["blocks"].as_u64().unwrap());
        assert_eq!(files.len(), 3 * (1 + 2) + 3 * (1 + 2) + 3, "{:?}", files.keys());
        match &first {
            None => first = Some((files, record)),
            Some((f, r)) => {
                assert_eq!(r, &record, "{limits:?}");
                for (name, bytes) in f {
                    assert!(files.get(name) == Some(bytes), "{name} differs with {limits:?}");
                }
            }
        }
    }
}

#[test]
fn the_order_of_inputs_does_not_matter() {
    let (dir, scenes, p) = season(4);
    let mut names: Vec<String> = scenes
        .iter()
        .enumerate()
        .map(|(i, s)| format!("scenes/{}{}", s.id(), if i % 2 == 0 { "" } else { ".tar" }))
        .collect();
    let run = |names: &[String], out: &str| {
        let mut args = vec!["composite"];
        args.extend(names.iter().map(String::as_str));
        args.extend(["--out", out]);
        p.ok(&args);
        std::fs::read(dir.path().join(out)).unwrap()
    };
    let first = run(&names, "a.tif");
    names.reverse();
    assert!(run(&names, "b.tif") == first);
    // a scene given twice is counted once, and said to be
    names.push(names[0].clone());
    let mut args = vec!["composite"];
    args.extend(names.iter().map(String::as_str));
    args.extend(["--out", "c.tif"]);
    assert!(p.ok(&args).err.contains("was given twice; it is counted once"));
    assert!(std::fs::read(dir.path().join("c.tif")).unwrap() == first);
}

#[test]
fn memory_is_held_or_refused_with_the_bytes_needed() {
    let (dir, _scenes, p) = season(3);
    let ran = p.fails(
        &["composite", "scenes", "--memory", "1MB", "--out", "c.tif"],
        2,
        &["MB of memory at least, 1 MB are allowed", "--memory"],
    );
    let needed = ran.err.split("needs ").nth(1).and_then(|t| t.split(' ').next()).unwrap().to_string();
    assert!(!dir.path().join("c.tif").exists());
    p.ok(&["composite", "scenes", "--memory", &format!("{needed}MB"), "--out", "c.tif"]);
}
