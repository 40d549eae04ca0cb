//! A whole database with what stands at the edge: the definition that comes of it, word by word, and what is said of the rest.

use emberwort_import::{Imported, Options, decimal, definition, read};

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

/// What comes of a database whose host is Keeper, which is this definition behind its heading.
fn becomes(database: &str, channel: &str, wanted: &str) -> Imported {
    let hosts = ["Keeper".to_owned()];
    let options = Options { channel, medium: None, hosts: &hosts, heading: "made" };
    let imported = definition(&read(database.as_bytes()), &options);
    let (heading, text) = imported.text.split_once("\n\n").expect("a heading");
    assert_eq!((heading, text), ("# made", wanted));
    imported
}

/// The lines of what is left out, and why.
fn left_out(imported: &Imported) -> Vec<(usize, &str)> {
    imported.left_out.iter().map(|skipped| (skipped.line, skipped.reason.as_str())).collect()
}

#[test]
fn a_database_becomes_this_definition() {
    let imported = becomes(DATABASE, "a", DEFINITION);
    assert_eq!((imported.messages, imported.signals), (2, 4));
    let left_out: Vec<usize> = imported.left_out.iter().map(|skipped| skipped.line).collect();
    assert_eq!(left_out, [20, 21, 30, 32]);
}

/// Signals that another one chooses, one that two values choose, one that a chosen one chooses; a period for all that have none of their own,
/// in a statement without an end.
const CHOSEN: &str = r#"VERSION ""
BS_:
BU_: Pump Keeper
BO_ 256 Chosen: 8 Pump
 SG_ Always : 0|8@1+ (1,0) [0|0] "" Keeper
 SG_ Which M : 8|4@1+ (1,0) [0|0] "" Keeper
 SG_ Oil m0 : 16|8@1+ (2,0) [0|0] "bar" Keeper
 SG_ Deep m1M : 16|2@1+ (1,0) [0|0] "" Keeper
 SG_ Low m0 : 24|8@1+ (1,0) [0|0] "" Keeper
 SG_ Far m1 : 32|8@1+ (1,0) [0|0] "" Keeper
 SG_ Both m2 : 16|16@1+ (1,0) [0|0] "" Keeper
BO_ 257 Plain: 2 Pump
 SG_ Real : 0|16@1+ (1,0) [0|0] "" Keeper
BO_ 258 Own: 1 Pump
 SG_ One : 0|8@1+ (1,0) [0|0] "" Keeper
BA_DEF_ BO_ "GenMsgCycleTime" INT 0 65535;
BA_DEF_DEF_ "GenMsgCycleTime" 200
BA_ "GenMsgCycleTime" BO_ 258 50;
BA_DEF_DEF_ "Other" 7;
SG_MUL_VAL_ 256 Both Which 2-3;
SG_MUL_VAL_ 256 Far Deep 1-1;
VAL_ 256 Which 0 "oil" 1 "deep" 2 "both";
VAL_ 256 Nobody 0 "none";
"#;

/// Worked out by hand. What is chosen begins at byte 2 of its frame, and in `deep` at byte 4.
const CHOSEN_DEFINITION: &str = r#"channel m {
    medium  can 500 kbit/s
    packet
    select  by can_id
}

record ChosenWhich0 {
    ## For Keeper.
    oil     : u8 * 2 bar at 0.0
    ## For Keeper.
    low     : u8 at 1.0
    filler  : u1 at 5.7 retired
}

record ChosenWhich1Deep1 {
    ## For Keeper.
    far     : u8 at 0.0
    filler  : u1 at 3.7 retired
}

record ChosenWhich1Others {
    filler  : u1 at 3.7 retired
}

record ChosenWhich1 {
    ## For Keeper.
    deep    : u2 at 0.0
    filler  : u1 at 1.7 retired
    by_deep : by deep {
        1    deep_1  : ChosenWhich1Deep1
        else others  : ChosenWhich1Others
    }
}

record ChosenWhich2 {
    ## For Keeper.
    both    : u16 at 0.0
    filler  : u1 at 5.7 retired
}

## Sent by Pump.
message Chosen {
    from  device every 200 ms
    on    m can_id 0x100

    ## Raw values: 0 oil, 1 deep, 2 both.
    ## For Keeper.
    which   : u4 at 1.0
    ## For Keeper.
    always  : u8 at 0.0
    by_which : by which {
        0    oil      : ChosenWhich0
        1    deep     : ChosenWhich1
        2    both     : ChosenWhich2
        3    which_3  : ChosenWhich2
        else others   : bytes[rest]
    }
}

## Sent by Pump.
message Plain {
    from  device every 200 ms
    on    m can_id 0x101

    ## For Keeper.
    real  : u16 at 0.0
}

## Sent by Pump.
message Own {
    from  device every 50 ms
    on    m can_id 0x102

    ## For Keeper.
    one  : u8 at 0.0
}
"#;

#[test]
fn chosen_signals_become_forms() {
    let imported = becomes(CHOSEN, "m", CHOSEN_DEFINITION);
    assert_eq!(left_out(&imported), [(23, "there is no such signal")]);
}

/// The longest message and one that is longer, signals of no message (their number is 0xC0000000), a value that the one which chooses cannot have,
/// and a second sender.
const EDGES: &str = r#"VERSION ""
BS_:
BU_: Pump Keeper Spare
BO_ 1 Whole: 64 Pump
 SG_ Last : 504|8@1+ (1,0) [0|0] "" Keeper
BO_ 2 Longer: 65 Pump
 SG_ First : 0|8@1+ (1,0) [0|0] "" Keeper
BO_ 3221225472 OfNobody: 0 Pump
 SG_ Alone : 0|8@1+ (1,0) [0|0] "" Keeper
BO_ 4 Shared: 8 Pump
 SG_ Which M : 0|2@1+ (1,0) [0|0] "" Keeper
 SG_ Three m3 : 8|8@1+ (1,0) [0|0] "" Keeper
 SG_ Four m4 : 8|8@1+ (1,0) [0|0] "" Keeper
BO_TX_BU_ 4 : Pump,Spare;
"#;

/// Worked out by hand.
const EDGES_DEFINITION: &str = r#"channel e {
    medium  can 500 kbit/s fd 2 Mbit/s
    packet
    select  by can_id
}

## Sent by Pump.
message Whole {
    from  device
    on    e can_id 0x001

    ## For Keeper.
    last  : u8 at 63.0
}

record SharedWhich3 {
    ## For Keeper.
    three   : u8 at 0.0
    filler  : u1 at 6.7 retired
}

## Sent by Pump, Spare.
message Shared {
    from  device
    on    e can_id 0x004

    ## For Keeper.
    which  : u2 at 0.0
    by_which : by which {
        3    which_3  : SharedWhich3
        else others   : bytes[rest]
    }
}
"#;

#[test]
fn what_goes_beyond_is_left_out() {
    let imported = becomes(EDGES, "e", EDGES_DEFINITION);
    assert_eq!(
        left_out(&imported),
        [
            (6, "65 bytes are more than a frame carries"),
            (8, "it holds signals that belong to no message"),
            (9, "it belongs to no message"),
            (13, "`Which` has 2 bits, and can never be 4"),
        ]
    );
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

#[test]
fn signals_with_the_same_texts_have_one_enum() {
    let database = "VERSION \"\"\nBS_:\nBU_: Pump\nBO_ 256 Status: 8 Pump\n SG_ Left : 0|3@1+ (1,0) [0|0] \"\" Pump\n \
         SG_ Right : 3|3@1+ (1,0) [0|0] \"\" Pump\n SG_ Wide : 8|8@1+ (1,0) [0|0] \"\" Pump\n";
    let texts = ["Left", "Right", "Wide"].map(|name| format!("VAL_ 256 {name} 0 \"shut\" 1 \"open\";\n")).concat();
    let options = Options { channel: "a", medium: None, hosts: &[], heading: "made" };
    let imported = definition(&read(format!("{database}{texts}").as_bytes()), &options);
    let enums: Vec<&str> = imported.text.lines().filter(|line| line.starts_with("enum ")).collect();
    // One of another width is another one.
    assert_eq!(enums, ["enum StatusLeft : u3 {", "enum StatusWide : u8 {"]);
    assert!(imported.text.contains(" : StatusLeft at 0.3"), "{}", imported.text);
}
