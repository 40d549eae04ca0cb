//! What became of frames, kept until the copy is proved: the first ones for people, all of them as objects, which a temporary file holds.

use std::collections::{BTreeMap, VecDeque};
use std::fs::File;
use std::io::{self, BufRead as _, BufReader, BufWriter, Seek as _, SeekFrom, Write as _};

use emberwort_capture::amend::Layer;
use emberwort_capture::amend::copy::Changed;
use serde_json::Value as Json;

use super::change::{Change, layer};
use crate::cli::TableForm;

/// So many changes are shown to people one by one.
const SHOWN: usize = 20;

/// So many packets are kept for frames of packets that came before; for others the file is read again, from a place as near.
const NEAR: usize = 4096;

/// What became of the chosen frames.
pub struct AmendReport {
    /// The first ones, where people read them.
    pub first: Vec<Change>,
    /// How many there were.
    pub count: u64,
    /// All of them, an object in each line, where programs read them.
    objects: Option<BufWriter<File>>,
}

impl AmendReport {
    /// Of none yet.
    ///
    /// # Errors
    /// If there is no room for a temporary file.
    pub fn new(form: TableForm) -> io::Result<Self> {
        let objects = match form {
            TableForm::Table => None,
            TableForm::Ndjson => Some(BufWriter::new(tempfile::tempfile()?)),
        };
        Ok(Self { first: Vec::new(), count: 0, objects })
    }

    /// One more.
    pub fn add(&mut self, change: Change) -> io::Result<()> {
        self.count += 1;
        match &mut self.objects {
            Some(objects) => writeln!(objects, "{}", change.object()),
            None if self.first.len() < SHOWN => {
                self.first.push(change);
                Ok(())
            }
            None => Ok(()),
        }
    }

    /// The objects from the first one on, each with the numbers of its packets; none where people read.
    pub fn objects(&mut self) -> io::Result<impl Iterator<Item = io::Result<Json>> + '_> {
        let file = self.objects.as_mut().map(rewound).transpose()?;
        let lines = file.into_iter().flat_map(|file| BufReader::new(file).lines());
        Ok(lines.map(|line| Ok(serde_json::from_str(&line?)?)))
    }
}

/// What was written to a file, from its beginning on.
fn rewound(file: &mut BufWriter<File>) -> io::Result<&mut File> {
    file.flush()?;
    let file = file.get_mut();
    file.seek(SeekFrom::Start(0))?;
    Ok(file)
}

/// The checksums of a network around changed packets, by the packets' numbers.
pub struct Layers {
    /// Those around frames that people are shown.
    pub shown: BTreeMap<u64, Vec<Layer>>,
    objects: Option<BufWriter<File>>,
}

impl Layers {
    /// Those of the packets of these changes, or of all where programs read them.
    pub fn new(report: &AmendReport) -> io::Result<Self> {
        let packets = report.first.iter().flat_map(|change| &change.packets);
        let objects = report.objects.as_ref().map(|_| tempfile::tempfile().map(BufWriter::new)).transpose()?;
        Ok(Self { shown: packets.map(|packet| (*packet, Vec::new())).collect(), objects })
    }

    /// A packet was changed.
    pub fn add(&mut self, changed: Changed) -> io::Result<()> {
        match &mut self.objects {
            Some(_) if changed.layers.is_empty() => Ok(()),
            Some(objects) => {
                let layers: Vec<Json> = changed.layers.iter().map(layer).collect();
                writeln!(objects, "{}", Json::from(vec![Json::from(changed.packet), Json::from(layers)]))
            }
            None => {
                if let Some(layers) = self.shown.get_mut(&changed.packet) {
                    *layers = changed.layers;
                }
                Ok(())
            }
        }
    }

    /// All of them as objects, to be asked for by packets.
    pub fn objects(&mut self) -> io::Result<LayersInOrder<'_>> {
        let file = self.objects.as_mut().map(rewound).transpose()?.map(BufReader::new);
        Ok(LayersInOrder { file, near: VecDeque::new(), read_to: 0, at: 0, places: vec![(0, 0)], until_place: NEAR })
    }
}

/// Objects of checksums, by rising number of the packet.
pub struct LayersInOrder<'a> {
    file: Option<BufReader<&'a mut File>>,
    /// The packets that were read last.
    near: VecDeque<(u64, Vec<Json>)>,
    /// All up to this packet were read, and where in the file that ends.
    read_to: u64,
    at: u64,
    /// Places from which the file can be read again: behind a packet, and bytes from its beginning.
    places: Vec<(u64, u64)>,
    /// So many packets are read until another place is noted.
    until_place: usize,
}

impl LayersInOrder<'_> {
    /// Those around a packet. Packets are mostly asked for in their order; others are found, too, and take longer.
    pub fn of(&mut self, packet: u64) -> io::Result<Vec<Json>> {
        let Some(file) = &mut self.file else { return Ok(Vec::new()) };
        if self.near.front().is_some_and(|(first, _)| packet < *first) {
            let place = self.places.partition_point(|(behind, _)| *behind < packet) - 1;
            (self.read_to, self.at) = self.places[place];
            file.seek(SeekFrom::Start(self.at))?;
            self.near.clear();
        }
        while self.read_to < packet {
            let mut line = String::new();
            if file.read_line(&mut line)? == 0 {
                self.read_to = u64::MAX;
                break;
            }
            let (number, layers): (u64, Vec<Json>) = serde_json::from_str(&line)?;
            (self.read_to, self.at) = (number, self.at + line.len() as u64);
            self.near.push_back((number, layers));
            if self.near.len() > NEAR {
                self.near.pop_front();
            }
            if self.places.last().is_some_and(|(behind, _)| number > *behind) {
                self.until_place -= 1;
                if self.until_place == 0 {
                    self.places.push((number, self.at));
                    self.until_place = NEAR;
                }
            }
        }
        let found = self.near.binary_search_by_key(&packet, |(number, _)| *number);
        Ok(found.map_or_else(|_| Vec::new(), |at| self.near[at].1.clone()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn checksums_are_found_in_any_order_of_packets() {
        let mut layers =
            Layers { shown: BTreeMap::new(), objects: Some(BufWriter::new(tempfile::tempfile().unwrap())) };
        // Every second packet has one.
        for packet in 1..=5 * NEAR as u64 {
            let layer = Layer { name: "IPv4".to_owned(), found: packet, expected: 1, written: 1, digits: 4 };
            let layers_of = if packet % 2 == 0 { vec![layer] } else { Vec::new() };
            layers.add(Changed { packet, layers: layers_of }).unwrap();
        }
        let mut all = layers.objects().unwrap();
        let last = 5 * NEAR as u64;
        let near = NEAR as u64;
        for packet in [1, 2, 4, 3, 2, 4 * near, 4 * near - 100, 10, last, 2, last, last + 5, 6] {
            let found: Vec<String> =
                all.of(packet).unwrap().iter().map(|one| one["found"].as_str().unwrap().to_owned()).collect();
            let expected = if packet % 2 == 0 && packet <= last { vec![format!("0x{packet:04X}")] } else { Vec::new() };
            assert_eq!(found, expected, "{packet}");
        }
        // Back and forth over many times as many as are kept.
        for packet in (1..=last).rev().step_by(97).flat_map(|packet| [packet, last + 1 - packet]) {
            assert_eq!(all.of(packet).unwrap().len(), usize::from(packet % 2 == 0), "{packet}");
        }
    }
}
