//! Pictures of waveforms: as text, as SVG, as a page in a browser.

use std::path::Path;
use std::process::Command;

use crate::common::{project, run, succeed};

/// A trial with damaged frames on the wire, as an instrument sees it.
fn recorded(folder: &Path, more: &str) {
    let trial = format!(
        "channel = \"bus485\"\nspan = \"2 s\"\nseed = 5\n[wire]\nbit_errors = 2e-3\n[wave]\nrate = \"2 MHz\"\n{more}\n[[device]]\nnode = 3\n"
    );
    std::fs::write(folder.join("t.toml"), trial).unwrap();
    let ran = run(folder, &["trial", "t.toml", "--wave", "t.vcd", "--record", "t.pcapng"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
}

const WIRES: [&str; 6] = ["--on", "bus485", "--wire", "device=device", "--wire", "host=host"];

#[test]
fn a_picture_shows_the_broken_frame_and_the_reason() {
    let folder = project();
    let folder = folder.path();
    recorded(folder, "");
    let text = succeed(folder, &[&["plot", "t.vcd"][..], &WIRES].concat());
    assert!(text.starts_with("t.vcd, uart 115200 8N1 on bus485\n"), "{text}");
    assert!(
        text.contains("shown below") && text.contains("broken  `check` is 0x") && text.contains("|C6 |39|"),
        "{text}"
    );
    let ran = run(folder, &[&["plot", "t.vcd", "--out", "t.svg"][..], &WIRES].concat());
    assert_eq!(ran.code, 0, "{}", ran.err);
    let svg = std::fs::read_to_string(folder.join("t.svg")).unwrap();
    for said in [">C6<", "broken  `check` is 0x", ">bytes<", ">fields<"] {
        assert!(svg.contains(said), "{said}");
    }
    // A good one, with its parts and fields, where one asks for it; and what lies between two marks.
    let around = ["plot", "t.vcd", "--around", "message == GateStatus", "--mark", "1.001ms,1.018361ms"];
    let text = succeed(folder, &[&around[..], &WIRES].concat());
    assert!(text.contains("#1 GateStatus node 3 state=closed") && text.contains("  fields"), "{text}");
    // Two bits at 115,200 bits a second.
    assert!(text.contains("between the marks 17.4 us, 57600"), "{text}");
    let ran = run(folder, &[&["plot", "t.vcd", "--around", "message == MoveGate"][..], &WIRES].concat());
    assert!(ran.code == 2 && ran.err.contains("nothing fits --around"), "{}", ran.err);
    for (words, said) in [
        (&["plot", "t.vcd", "--as", "page", "--out", "t.svg"][..], "a page is a file that ends with .html"),
        (&["plot", "t.vcd", "--out", "t.html"], "a page is a file that ends with .html"),
        (&["plot", "-"], "a picture takes two looks"),
        (&["plot", "t.vcd", "--mark", "5"], "is no two moments; write 1.2ms,1.5ms"),
    ] {
        let ran = run(folder, &[words, &WIRES].concat());
        assert!(ran.code == 2 && ran.err.contains(said), "{words:?}: {}", ran.err);
    }
}

/// Runs a page in a browser without a window, and gives back what its script made of it; `None` without a browser, unless one is needed.
fn dom_of(page: &Path) -> Option<String> {
    let browser = std::env::var("EMBERWORT_CHROMIUM").unwrap_or_else(|_| "chromium".to_owned());
    let profile = page.with_extension("profile");
    let out = Command::new(browser)
        .args(["--headless=new", "--no-sandbox", "--disable-gpu", "--virtual-time-budget=3000", "--dump-dom"])
        .arg(format!("--user-data-dir={}", profile.display()))
        .arg(format!("file://{}", page.display()))
        .output();
    let is_needed = std::env::var_os("EMBERWORT_NEED_TOOLCHAINS").is_some();
    assert!(out.is_ok() || !is_needed, "no chromium is on this machine, and EMBERWORT_NEED_TOOLCHAINS is set");
    Some(String::from_utf8_lossy(&out.ok()?.stdout).into_owned())
}

#[test]
fn a_page_lists_all_frames_in_a_browser() {
    let folder = project();
    let folder = folder.path();
    recorded(folder, "high = 3.3\nnoise = 0.05");
    let ran = run(folder, &[&["plot", "t.vcd", "--as", "page", "--out", "t.html"][..], &WIRES].concat());
    assert_eq!(ran.code, 0, "{}", ran.err);
    let page = std::fs::read_to_string(folder.join("t.html")).unwrap();
    assert!(!page.contains("http://") && !page.contains("https://"), "it needs no network");
    hostile_names_stay_text(folder);
    let Some(dom) = dom_of(&folder.join("t.html")) else { return };
    // What the script wrote: the title, the rows of the list in the order of their times, the chosen one, and what is shown.
    assert!(dom.contains("<h1 id=\"title\">t.vcd, uart 115200 8N1 on bus485</h1>"), "{}", &dom[..dom.len().min(2000)]);
    let rows: Vec<&str> = dom.split("<div class=\"row").skip(1).collect();
    let direct = succeed(folder, &[&["decode", "t.vcd", "--as", "ndjson"][..], &WIRES].concat());
    assert_eq!(rows.len(), direct.lines().count(), "{dom}");
    assert!(rows.iter().any(|row| row.starts_with(" bad now\"") && row.contains("`check` is 0x")), "{rows:?}");
    assert!(rows.iter().any(|row| row.contains("GateStatus node 3") && row.contains("opening=0.0 %")), "{rows:?}");
    assert!(dom.contains(&format!(", {} frames</span>", rows.len())), "{dom}");
}

/// Text of a file cannot become part of the page.
fn hostile_names_stay_text(folder: &Path) {
    let vcd = std::fs::read_to_string(folder.join("t.vcd")).unwrap();
    std::fs::write(folder.join("h.vcd"), vcd.replace(" device $end", " </script><b>x</b> $end")).unwrap();
    let wires = ["--on", "bus485", "--wire", "device=</script><b>x</b>", "--as", "page", "--out", "h.html"];
    let ran = run(folder, &[&["plot", "h.vcd"][..], &wires].concat());
    assert_eq!(ran.code, 0, "{}", ran.err);
    let page = std::fs::read_to_string(folder.join("h.html")).unwrap();
    assert_eq!(page.matches("</script>").count(), 1);
}
