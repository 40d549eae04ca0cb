//! JSON objects, one a line, in which JSON pointers (RFC 6901) say where the parts of a record stand.

use serde_json::Value;

use super::cells::{CellKind, Cells};

/// Where the parts of a record stand in an object.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Pointers {
    pointers: Vec<(CellKind, String)>,
}

impl Pointers {
    /// With a pointer for each part.
    ///
    /// # Errors
    /// Which one is no pointer, or that none is for the bytes.
    pub fn new(pointers: Vec<(CellKind, String)>) -> Result<Self, String> {
        for (_, pointer) in &pointers {
            let is_pointer = pointer.is_empty() || pointer.starts_with('/');
            let shown = emberwort_model::diagnostics::escaped(pointer);
            if !is_pointer {
                return Err(format!("`{shown}` is not a JSON pointer (RFC 6901), as /uplink/payload is"));
            }
            // A tilde stands in front of 0 or 1 alone.
            let mut tildes = pointer.split('~').skip(1);
            if tildes.any(|rest| !rest.starts_with(['0', '1'])) {
                return Err(format!("in the JSON pointer `{shown}` a ~ is written ~0, and a / inside of a name ~1"));
            }
        }
        if !pointers.iter().any(|(what, _)| *what == CellKind::Bytes) {
            return Err("nothing says where the bytes stand".to_owned());
        }
        Ok(Self { pointers })
    }

    /// Finds the parts of an object.
    ///
    /// # Errors
    /// Which one lacks, or cannot be read.
    pub fn find(&self, line: &str, cells: &mut Cells) -> Result<(), String> {
        let object: Value = serde_json::from_str(line).map_err(|error| format!("it is not JSON: {error}"))?;
        for (what, pointer) in &self.pointers {
            match object.pointer(pointer) {
                Some(Value::String(text)) => cells.take(*what, text)?,
                Some(Value::Number(number)) if *what != CellKind::Bytes => cells.take(*what, &number.to_string())?,
                None | Some(Value::Null) if *what != CellKind::Bytes => {}
                None | Some(Value::Null) => return Err(format!("nothing stands at {pointer}")),
                Some(_) => return Err(format!("what stands at {pointer} is neither text nor a number")),
            }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::records::{BytesForm, Forms};

    #[test]
    fn parts_stand_where_pointers_say() {
        let pointers = vec![
            (CellKind::Bytes, "/up/data~1raw".to_owned()),
            (CellKind::Port, "/up/port".to_owned()),
            (CellKind::Device, "/ids/0".to_owned()),
        ];
        let pointers = Pointers::new(pointers).unwrap();
        let mut cells = Cells::new(Forms { bytes: BytesForm::Base64, ..Forms::default() });
        let line = r#"{"ids":["gate-3"],"up":{"data/raw":"AQID","port":2}}"#;
        assert_eq!(pointers.find(line, &mut cells), Ok(()));
        let record = cells.record().unwrap();
        assert_eq!((record.bytes, record.key, record.device), (&[1, 2, 3][..], Some(2), Some("gate-3")));
        for (line, said) in [
            ("{", "it is not JSON"),
            ("{\"up\":{}}", "nothing stands at /up/data~1raw"),
            ("{\"up\":{\"data/raw\":[1]}}", "neither text nor a number"),
            ("{\"up\":{\"data/raw\":\"?\"}}", "is not bytes in base 64"),
        ] {
            let error = pointers.find(line, &mut cells).unwrap_err();
            assert!(error.contains(said), "{line}: {error}");
        }
        assert!(Pointers::new(vec![(CellKind::Bytes, "up".into())]).unwrap_err().contains("is not a JSON pointer"));
        assert!(Pointers::new(vec![(CellKind::Bytes, "/a~b".into())]).unwrap_err().contains("a ~ is written ~0"));
    }
}
