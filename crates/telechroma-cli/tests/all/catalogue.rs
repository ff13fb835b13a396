//! The catalogues, completions, manual pages and help.

use crate::program;

#[test]
fn catalogues_completions_and_manual_pages() {
    let dir = tempfile::tempdir().unwrap();
    let p = program(dir.path());
    let list = p.ok(&["indices", "list"]).out;
    for d in telechroma_core::index::INDICES.iter() {
        assert!(list.lines().any(|l| l.starts_with(d.id)), "{}", d.id);
        let shown = p.ok(&["indices", "show", d.id]).out;
        assert!(shown.contains(d.formula) && shown.contains(d.source), "{shown}");
    }
    p.fails(&["indices", "show", "ndvy"], 2, &["unknown index 'ndvy': did you mean 'ndvi'?"]);
    assert!(p.ok(&["sensors", "list"]).out.contains("landsat-oli-tirs"));
    let shown = p.ok(&["sensors", "show", "landsat-oli-tirs"]).out;
    assert!(shown.contains("lwir11") && shown.contains("10.600–11.190") && shown.contains("QA_PIXEL"), "{shown}");
    let file = p.ok(&["sensors", "show", "drone-5band", "--toml"]).out;
    assert!(telechroma_core::sensor::SensorDef::parse(&file).is_ok_and(|s| s.id == "drone-5band"), "{file}");
    p.fails(&["sensors", "show", "landsat"], 2, &["unknown sensor 'landsat'"]);
    for shell in ["bash", "zsh", "fish", "elvish", "powershell"] {
        assert!(p.ok(&["completions", shell]).out.contains("summarise"), "{shell}");
    }
    p.ok(&["man", "pages"]);
    for page in ["telechroma.1", "telechroma-run.1", "telechroma-draw-map.1"] {
        let text = std::fs::read_to_string(dir.path().join("pages").join(page)).unwrap();
        assert!(text.contains(".TH"), "{page}");
    }
}

#[test]
fn every_command_explains_itself_with_an_example() {
    let dir = tempfile::tempdir().unwrap();
    let p = program(dir.path());
    let help = p.ok(&["--help"]).out;
    for command in [
        "demo",
        "run",
        "inspect",
        "calibrate",
        "mask",
        "composite",
        "index",
        "summarise",
        "draw",
        "indices",
        "sensors",
        "completions",
        "man",
    ] {
        assert!(help.lines().any(|l| l.trim_start().starts_with(command)), "{command} is not in\n{help}");
        let long = p.ok(&[command, "--help"]).out;
        if !["draw", "indices", "sensors"].contains(&command) {
            assert!(long.contains(&format!("Example: telechroma {command}")), "{command}:\n{long}");
        }
    }
    p.fails(&["summarize"], 2, &["summarise"]);
}
