//! A whole database with what stands at the edge: the definition that comes of it, word by word, and what is said of the rest.

use emberwort_import::{Options, decimal, definition, read};

/// A list of symbols in front, comments of several lines, both orders of bytes, texts of an enum and of a number, signals and numbers that
/// are too long, and what is no statement.
const DATABASE: &str = r#"VERSION ""

NS_ :
	NS_DESC_
	CM_
	BA_DEF_
	VAL_

BS_:

BU_: Pump Keeper Panel

BO_ 291 PumpStatus: 6 Pump
 SG_ State : 0|3@1+ (1,0) [0|5] "" Keeper,Panel
 SG_ OilPressure : 8|12@1+ (0.0625,0) [0|250] "bar" Keeper
 SG_ Level : 31|10@0- (0.5,-40) [-40|215] "degC" Keeper
 SG_ Mode : 3|2@1+ (2,1) [1|7] "" Keeper

BO_ 2566869221 Long: 8 Keeper
 SG_ Far : 56|9@1+ (1,0) [0|0] "" Pump
 SG_ Near : 0|8@1+ (1E-31,0) [0|0] "" Pump

CM_ "first
second line";
CM_ SG_ 291 OilPressure "Behind the pump
and in front of the filter.";
CM_ BO_ 291 "Where the pump \"stands\".";
BA_DEF_ BO_ "GenMsgCycleTime" INT 0 65535;
BA_ "GenMsgCycleTime" BO_ 291 100;
BA_ "Other" 3;
BA_ "Other" 4;
WRONG_ 5 6;
VAL_ 291 State 0 "off" 1 "starting" 2 "running";
VAL_ 291 Mode 0 "low" 3 "high";
"#;

/// Worked out by hand. `level` begins at bit 7 of byte 3 and goes on in the two highest bits of byte 4; the six bytes of the first message and
/// the eight of the second one are kept by their last bits.
const DEFINITION: &str = r#"## first
## second line
channel a {
    medium  can 500 kbit/s
    packet
    select  by can_id
}

enum PumpStatusState : u3 {
    0 off       "off"
    1 starting  "starting"
    2 running   "running"
}

## Where the pump "stands".
## Sent by Pump.
message PumpStatus {
    from  device every 100 ms
    on    a can_id 0x123

    ## From 0 to 5.
    ## For Keeper, Panel.
    state         : PumpStatusState at 0.0
    ## Behind the pump
    ## and in front of the filter.
    ## From 0 to 250 bar.
    ## For Keeper.
    oil_pressure  : u12 * 0.0625 bar at 1.0
    ## From -40 to 215 degC.
    ## For Keeper.
    level         : i10 * 0.5 - 40 degC be at 3.7
    ## From 1 to 7.
    ## Raw values: 0 low, 3 high.
    ## For Keeper.
    mode          : u2 * 2 + 1 at 0.3
    filler        : u1 at 5.7 retired
}

## Sent by Keeper.
message Long {
    from  host
    on    a can_id 0x18FF50E5 extended

    filler  : u1 at 7.7 retired
}
"#;

#[test]
fn a_database_becomes_this_definition() {
    let database = read(DATABASE.as_bytes());
    let hosts = ["Keeper".to_owned()];
    let options = Options { channel: "a", medium: None, hosts: &hosts, heading: "made" };
    let imported = definition(&database, &options);
    let from = imported.text.find("## first").expect("the comment of the whole");
    assert_eq!(&imported.text[from..], DEFINITION);
    assert_eq!((imported.messages, imported.signals), (2, 4));
    let left_out: Vec<usize> = imported.left_out.iter().map(|skipped| skipped.line).collect();
    assert_eq!(left_out, [20, 21, 30, 32]);
}

#[test]
fn decimals_have_thirty_digits_on_each_side() {
    let whole = "1".repeat(30);
    assert_eq!(decimal::plain(&whole), Some(whole.clone()));
    assert_eq!(decimal::plain(&format!("1{whole}")), None);
    assert_eq!(decimal::plain(&format!("0.{whole}")), Some(format!("0.{whole}")));
    assert_eq!(decimal::plain(&format!("0.1{whole}")), None);
    assert_eq!(decimal::plain(&format!("{whole}.{whole}")), Some(format!("{whole}.{whole}")));
}
