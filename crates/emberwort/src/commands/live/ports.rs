//! `ports`: the serial ports of this machine.

use std::io::Write;
use std::time::SystemTime;

use emberwort_model::diagnostics::escaped;
use emberwort_port::{SerialPortInfo, serial_ports};
use serde_json::json;

use crate::cli::{PortsArgs, TableForm};
use crate::ending::Ending;
use crate::output::{self, say};
use crate::render::table::table;

pub fn run(args: &PortsArgs) -> anyhow::Result<Ending> {
    let ports = serial_ports()?;
    let mut out = output::stdout();
    match args.form {
        TableForm::Ndjson => {
            for port in &ports {
                writeln!(out, "{}", as_json(port))?;
            }
        }
        TableForm::Table if !ports.is_empty() => {
            let titles = ["port", "driver", "what it is", "usb id", "number", "came", "in use by"];
            let mut rows = table(&titles, &[false; 7]);
            for port in &ports {
                rows.add_row([
                    escaped(&port.path.display().to_string()),
                    shown(port.driver.as_deref()),
                    shown(port.product.as_deref()),
                    port.usb_id.map_or_else(String::new, |(vendor, product)| format!("{vendor:04X}:{product:04X}")),
                    shown(port.serial_number.as_deref()),
                    port.since.and_then(ago).unwrap_or_default(),
                    escaped(&port.users.join(", ")),
                ]);
            }
            write!(out, "{}", rows.lines())?;
        }
        TableForm::Table => {}
    }
    out.flush()?;
    match ports.first() {
        Some(port) => {
            let path = port.lasting_path.as_ref().unwrap_or(&port.path);
            say!("to hear the newest: emberwort listen {}", escaped(&path.display().to_string()));
        }
        None => say!(
            "this machine has no serial port: is the adapter plugged in?\nwithout one, `emberwort device TRIAL --port pty` plays a device"
        ),
    }
    Ok(Ending::Clean)
}

fn shown(text: Option<&str>) -> String {
    text.map(escaped).unwrap_or_default()
}

/// How long ago something was.
fn ago(moment: SystemTime) -> Option<String> {
    let seconds = moment.elapsed().ok()?.as_secs();
    Some(match seconds {
        0..120 => format!("{seconds} s ago"),
        120..7_200 => format!("{} min ago", seconds / 60),
        7_200..172_800 => format!("{} h ago", seconds / 3_600),
        _ => format!("{} days ago", seconds / 86_400),
    })
}

fn as_json(port: &SerialPortInfo) -> serde_json::Value {
    let path = |path: &std::path::Path| path.display().to_string();
    json!({
        "port": path(&port.path), "lasting_path": port.lasting_path.as_deref().map(path), "driver": port.driver,
        "product": port.product, "usb_vendor": port.usb_id.map(|id| id.0), "usb_product": port.usb_id.map(|id| id.1),
        "serial_number": port.serial_number, "in_use_by": port.users,
    })
}
