//! The document of a link: complete, and nothing that it shows is markup.

mod common;

use common::plans::{ODD, WHOLE, marlock, plan};
use emberwort_codegen::{document, vectors};
use emberwort_model::hex::hex;

#[test]
fn everything_of_the_link_is_in_it() {
    for plan in [marlock(), plan(WHOLE), plan(ODD)] {
        let all = vectors::vectors(&plan, 42);
        let files = document::generate(&plan, &all);
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
                    vector.message == index
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

#[test]
fn texts_are_no_markup() {
    let plan = plan(
        "## <script>alert(1)</script> & \"x\" --> | `a` [b](c) *d* \u{202e}e\nlink l {\n revision 1\n byte_order little\n}\n\
         ## <img src=x onerror=y> | z\nchannel c {\n medium uart 9600 8N1\n frame { sync A5\n kind : u8 message\n size : u8 length of body\n body }\n}\n\
         ## </table> ``` <b>\nmessage M {\n id 1\n from device\n on c\n ## a | b <i>\n a : text[..20]\n}\n",
    );
    let files = document::generate(&plan, &vectors::vectors(&plan, 1));
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
