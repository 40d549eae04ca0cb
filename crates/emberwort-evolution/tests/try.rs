mod common;
use common::revision;
use emberwort_evolution::*;

const LOCK: &str = include_str!("lock.ember");

fn edits() -> Vec<(&'static str, &'static str)> {
    vec![
        ("    opening    : 0 .. 100", "    moved : u8\n    opening    : 0 .. 100"),
        ("    valve      : u4\n", ""),
        ("    pump_temp  : i8 degC\n", "    pump_temp  : i8 degC retired\n"),
        ("    pump_temp  : i8 degC\n    faults     : Faults\n", "    faults     : Faults\n    pump_temp  : i8 degC\n"),
        ("i8 degC\n    faults", "u8 degC\n    faults"),
        ("bar in 12 bits", "bar in 16 bits"),
        ("bar in 12 bits", "bar in 10 bits"),
        ("0 .. 12 m step 0.05 or none", "0 .. 11 m step 0.05 or none"),
        ("0 .. 12 m step 0.05 or none", "0 .. 12.5 m step 0.05 or none"),
        ("0 .. 12 m step 0.05 or none", "0 .. 24 m step 0.1 or none"),
        ("0 .. 12 m step 0.05 or none", "1 .. 13 m step 0.05 or none"),
        ("0 .. 12 m step 0.05 or none", "0 .. 12 m step 0.05"),
        ("0 .. 250 bar in 12", "0 .. 250 psi in 12"),
        ("0 .. 250 bar in 12", "0 .. 400 bar in 12"),
        ("0 .. 250 bar in 12 bits", "0 .. 250 bar in 12 bits or none"),
        ("= 12.0", "= 13.0"),
        ("    2 open\n", "    2 open\n    3 held\n"),
        ("    2 open\n", ""),
        ("    1 opening\n    2 open\n", "    2 opening\n    1 open\n"),
        ("    2 open\n", "    2 wide_open\n"),
        ("    1 oil_hot\n", "    1 oil_hot\n    2 latch\n"),
        ("    0 overpressure\n    1 oil_hot\n", "    1 overpressure\n    0 oil_hot\n"),
        ("    oil        :", "    oil_pressure :"),
        ("message GateStatus", "message GateState2"),
        ("id    0x21", "id    0x23"),
        ("id    0x41\n", "id    0x42\n"),
        ("message Moved {\n    id    0x41\n    from  device\n    on    bus485\n\n    target  : 0 .. 100 % step 0.5\n}", "message Stopped {\n    id    0x41\n    from  device\n    on    bus485\n\n    why  : u8\n}"),
        ("0x11 hold_level", "0x12 hold_level"),
        ("    0x11 hold_level  : u12 mm read\n", ""),
        ("    0x11 hold_level  : u12 mm read\n", "    0x11 hold_level  : u12 mm read\n    0x12 more : u8 read\n"),
        ("hold_level  : u12 mm read", "hold_level  : u16 mm read"),
        ("hold_level  : u12 mm read", "hold_level  : u12 mm read write"),
        ("\"V{valve}:{position}\"", "\"V{valve}={position}\""),
        ("\"V{valve}:{position}\"", "\"V{position}:{valve}\""),
        ("        sync   C6 39", "        sync   C6 3A"),
        ("        count  : u8   sequence\n", ""),
        ("        node   : u8   address\n        kind   : u8   message\n        count  : u8   sequence\n", "        count  : u8   sequence\n        kind   : u8   message\n        node : u8 address\n"),
        ("crc-16/ibm-3740", "crc-16/arc"),
        ("crc-16/ibm-3740", "crc-16/modbus"),
        ("byte_order  little", "byte_order  big"),
        ("limit   128", "limit   64"),
        ("limit   128", "limit   200"),
        ("115200", "57600"),
        ("can 250", "can 500"),
        ("every 200 ms", "every 500 ms"),
        ("within 50 ms", "within 20 ms"),
        ("message Moved {\n    id    0x41\n    from  device\n    on    bus485\n", "message Moved {\n    id    0x41\n    from  device\n    on    bus485, house\n"),
        ("text[..12]", "text[..20]"),
        ("text[..12]", "text[..8]"),
        ("u8 optional", "u8"),
        ("[..4] Stroke", "[..6] Stroke"),
        ("    force   : u8 kN\n", "    force   : u8 kN\n added in 4 {\n hot : bool\n}\n"),
        ("    force   : u8 kN\n", "    hot : u8\n    force   : u8 kN\n"),
        ("    upstream    : u8 m\n    downstream  : u8 m\n", "    downstream    : u8 m\n    upstream  : u8 m\n"),
        ("12.0\n    }\n", "12.0\n    }\n added in 4 {\n more : u8\n }\n"),
        ("12.0\n    }\n", "12.0\n  more : u8\n  }\n"),
        ("tank      : i8 degC at 4.0\n    spare 3 bytes", "tank      : i8 degC at 5.0\n    spare 2 bytes"),
        ("tank      : i8 degC at 4.0\n    spare 3 bytes", "tank      : i8 degC at 4.0\n hot : bool at 5.0\n    spare 2 bytes"),
        ("tank      : i8 degC at 4.0\n    spare 3 bytes", "tank      : i8 degC at 4.0\n hot : bool = false at 5.0\n    spare 2 bytes"),
        ("can_id 0x1A4", "can_id 0x1A5"),
        ("channel bus485", "channel busbus"),
        ("## Where a gate stands.", "## Another word."),
    ]
}

#[test]
fn show() {
    for (from, to) in edits() {
        assert!(LOCK.contains(from), "{from}");
        let new = LOCK.replace(from, to).replace("revision    3", "revision    4").replace("by Moved", if to.contains("Stopped") {"by Stopped"} else {"by Moved"}).replace("on    bus485", if to.contains("busbus") {"on busbus"} else {"on    bus485"}).replace("on        bus485", if to.contains("busbus") {"on busbus"} else {"on    bus485"});
        let new = if to.contains("house") { new + "channel house { medium udp 4000\n packet\n frame { kind : u8 message\n body\n } }" } else { new };
        let new = if to.contains("big") { new.replace("at 2.0", "at 2.7").replace("at 0.0", "at 0.7").replace("at 4.0","at 4.7") } else { new };
        let (old, new) = (revision("old", LOCK), revision("new", &new));
        let comparison = compare(&old, &new);
        println!("=== {from:?} -> {to:?}  ({} tried)", comparison.tried);
        for change in &comparison.changes {
            println!("  {}  [{}] -> [{}]", change.difference, change.difference.old, change.difference.new);
            for pair in Pair::ALL {
                let j = change.judgement(pair);
                if j.verdict != Verdict::Fine { println!("     {:24} {:15} {}", pair.as_str(), j.verdict.as_str(), j.sentence); }
            }
        }
        let ways = ways_out(&old, &new, &comparison);
        for way in &ways { println!("  WAY {}", way.sentence); for item in &way.items { for l in item.text.lines().filter(|l| !item.before.contains(l.trim())) { println!("        {l}"); } } }
        let settled: Vec<usize> = ways.iter().flat_map(|w| w.changes.clone()).collect();
        for (n, change) in comparison.changes.iter().enumerate() { if change.worst().strands() && !settled.contains(&n) { println!("  NO WAY OUT OF {}", change.difference); } }
        let proof = prove::prove(&old, &new, &comparison, 200, 7);
        for c in proof.contradictions { println!("  CONTRADICTION {:?} {} {:?} {:?} {}", c.pair, c.message, c.expected, c.found, c.sentence); }
    }
}
