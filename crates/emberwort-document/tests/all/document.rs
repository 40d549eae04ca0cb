//! The document of a link: complete, and nothing that it shows is markup.

use emberwort_codegen::vectors;
use emberwort_model::hex::hex;
use emberwort_model::ids::MessageId;

use crate::plans::{ODD, WHOLE, marlock, plan};

#[test]
fn everything_of_the_link_is_in_it() {
    for plan in [marlock(), plan(WHOLE), plan(ODD)] {
        let all = vectors::vectors(&plan, 42);
        let files = emberwort_document::generate(&plan, &all);
        let (page, markdown) = (&files[0].text, &files[1].text);
        for (name, text) in [("page", page), ("Markdown", &markdown.replace('\\', ""))] {
            for message in &plan.messages {
                assert!(text.contains(&message.message.name), "{} in {name}", message.message.name);
                for field in message.message.fields.iter().filter(|field| !field.name.is_empty()) {
                    assert!(text.contains(&field.name), "{} in {name}", field.name);
                }
            }
            for labelled in &plan.link.labelled {
                labelled.labels.iter().for_each(|label| assert!(text.contains(&label.name), "{}", label.name));
            }
            for table in &plan.link.tables {
                table
                    .entries
                    .iter()
                    .for_each(|entry| assert!(text.contains(&entry.field.name), "{}", entry.field.name));
            }
            plan.channels.iter().for_each(|channel| assert!(text.contains(&channel.name), "{}", channel.name));
            // A worked example for each message, and its frame.
            for index in 0..plan.messages.len() {
                let has = |vector: &&vectors::Vector| {
                    vector.message == MessageId::new(index)
                        && text.contains(&hex(&vector.body))
                        && vector.frames.iter().all(|frame| text.contains(&hex(&frame.bytes)))
                };
                assert!(all.iter().any(|vector| has(&vector)), "{} in {name}", plan.messages[index].message.name);
            }
        }
        assert_eq!(files.len(), 2 + plan.messages.len(), "a picture for each message");
        for file in &files[2..] {
            assert!(markdown.contains(&format!("({})", file.name)) && file.text.starts_with("<svg"), "{}", file.name);
        }
        // The links inside of the page lead somewhere, and nothing comes from outside.
        for link in page.split("href=\"#").skip(1).map(|rest| rest.split('"').next().unwrap()) {
            assert_eq!(page.matches(&format!("id=\"{link}\"")).count(), 1, "{link}");
        }
        assert!(
            !page.contains("src=") && !page.contains("<script") && !page.contains("http://") || page.contains("xmlns")
        );
    }
}

/// Each way in which frames are found, and each part that they can have, in a sentence.
#[test]
fn sentences_say_what_the_wire_has() {
    let channel = |lines: &str, frame: &str| {
        let text = format!(
            "link l {{ revision 1  byte_order big }}\nchannel c {{\n{lines}\n frame {{ {frame} }}\n}}\n\
             message M {{ id 0x21\n from host\n answered by N within 30 ms\n on c\n a : u8 }}\nmessage N {{ id 0x22\n from device every 2 s\n on c\n a : u8 }}\n"
        );
        let plan = plan(&text);
        emberwort_document::generate(&plan, &vectors::vectors(&plan, 1))[1].text.replace('\\', "")
    };
    let uart = "medium uart 9600 8N1\n limit 40 bytes";
    for (lines, frame, sentences) in [
        (
            uart.to_owned(),
            "sync C6 39\n node : u8 address\n n : u4 sequence\n pad : u4 = 5\n kind : u8 message\n not : u8 same as kind inverted\n size : u8 length of kind..body\n body\n sum : u8 sum8 over node..body",
            &[
                "A frame begins with C6 39, and says how long it is. A frame has at most 40 bytes.",
                "which message this is",
                "each bit of kind inverted",
                "one more each frame",
                "always 0x5",
                "how many bytes the body has and 3 more",
                "sum8 over byte 2 up to the end of the body (0xDD for the nine bytes \"123456789\")",
                "the node",
            ][..],
        ),
        (
            format!("{uart}\n stuffing cobs"),
            "kind : u8 message\n body",
            &["Frames are stuffed (consistent overhead byte stuffing, COBS); a zero byte ends each."],
        ),
        (
            format!("{uart}\n stuffing slip"),
            "kind : u8 message\n body",
            &["in it C0 is sent as DB DC, and DB as DB DD (SLIP, RFC 1055)"],
        ),
        (
            format!("{uart}\n stuffing hdlc"),
            "kind : u8 message\n body\n check : u16 crc-16/ibm-sdlc over kind..body",
            &[
                "in it 7E is sent as 7D 5E, and 7D as 7D 5D",
                "crc-16/ibm-sdlc over byte 0 up to the end of the body (0x906E for the nine bytes \"123456789\")",
            ],
        ),
        (
            format!("{uart}\n stuffing escape 7D xor 20 of 7D C6"),
            "sync C6\n kind : u8 message\n size : u8 length of body\n body",
            &[
                "A frame begins with C6; behind that 7D or C6 is sent as 7D and the byte exclusive-or 20.",
                "how many bytes the body has",
            ],
        ),
        (
            "medium udp 4000\n packet".to_owned(),
            "kind : u8 message\n rev : u8 revision\n again : u8 same as kind\n body",
            &["The medium keeps frames apart.", "the sender's revision", "the same as kind"],
        ),
    ] {
        let markdown = channel(&lines, frame);
        let both = [
            "From the host, on c with the key 0x21. N answers it within 30 ms.",
            "From the device every 2 s, on c with the key 0x22. It answers M.",
        ];
        for sentence in sentences.iter().chain(&both) {
            assert!(markdown.contains(sentence), "{sentence}\n{markdown}");
        }
    }
}

#[test]
fn texts_are_no_markup() {
    let plan = plan(
        "## <script>alert(1)</script> & \"x\" --> | `a` [b](c) *d* \u{202e}e\nlink l {\n revision 1\n byte_order little\n}\n\
         ## <img src=x onerror=y> | z\nchannel c {\n medium uart 9600 8N1\n frame { sync A5\n kind : u8 message\n size : u8 length of body\n body }\n}\n\
         ## </table> ``` <b>\nmessage M {\n id 1\n from device\n on c\n ## a | b <i>\n a : text[..20]\n}\n",
    );
    let files = emberwort_document::generate(&plan, &vectors::vectors(&plan, 1));
    let (page, markdown) = (&files[0].text, &files[1].text);
    // In Markdown a backslash in front makes a sign of it.
    let markdown_plain = markdown.replace("\\<", "").replace("\\>", "");
    for raw in ["<script", "<img", "</table> ", "<b>", "<i>", "\u{202e}"] {
        assert!(!page.contains(raw), "{raw:?}");
        assert!(!markdown_plain.contains(raw), "{raw:?}");
    }
    assert!(page.contains("&lt;script&gt;alert(1)&lt;/script&gt;"));
    // No cell has more bars than its table.
    for row in markdown.lines().filter(|line| line.starts_with("| a ")) {
        assert_eq!(
            row.replace("\\|", "").matches('|').count(),
            markdown.lines().find(|line| line.starts_with("| Field")).unwrap().matches('|').count()
        );
    }
}
