//! The serial ports of this machine, and who uses them.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::time::SystemTime;

/// All that the system knows of a serial port.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SerialPortInfo {
    /// The path to open.
    pub path: PathBuf,
    /// A path that stays the same whatever else is plugged in, if there is one.
    pub lasting_path: Option<PathBuf>,
    /// The name of its driver.
    pub driver: Option<String>,
    /// What the vendor calls vendor and product.
    pub product: Option<String>,
    /// The USB identifiers of vendor and product.
    pub usb_id: Option<(u16, u16)>,
    /// The number of this one piece.
    pub serial_number: Option<String>,
    /// When it came.
    pub since: Option<SystemTime>,
    /// The programs that have it open, as far as they may be looked at.
    pub users: Vec<String>,
}

/// The serial ports that the system has, the newest first.
///
/// # Errors
/// If the system's list cannot be read.
pub fn serial_ports() -> io::Result<Vec<SerialPortInfo>> {
    serial_ports_in(Path::new("/sys/class/tty"), Path::new("/dev"))
}

/// Those of a list as Linux keeps it in `/sys/class/tty`, with their devices in `dev`.
fn serial_ports_in(class: &Path, dev: &Path) -> io::Result<Vec<SerialPortInfo>> {
    let mut found = Vec::new();
    for entry in fs::read_dir(class)? {
        let entry = entry?;
        let device = entry.path().join("device");
        // Consoles and pseudo-terminals have no device behind them.
        if !device.exists() {
            continue;
        }
        let driver = fs::canonicalize(device.join("driver")).ok().and_then(|path| name_of(&path));
        let path = dev.join(entry.file_name());
        // The kernel lists ports that a board could have; those without a chip have no kind.
        let is_missing = fs::read_to_string(entry.path().join("type")).is_ok_and(|kind| kind.trim() == "0");
        if is_missing || !path.exists() {
            continue;
        }
        let usb = usb_device(&device);
        let text = |name: &str| Some(fs::read_to_string(usb.as_ref()?.join(name)).ok()?.trim().to_owned());
        let number = |name: &str| u16::from_str_radix(&text(name)?, 16).ok();
        let product = [text("manufacturer"), text("product")].into_iter().flatten().collect::<Vec<_>>().join(" ");
        found.push(SerialPortInfo {
            lasting_path: lasting_path(&dev.join("serial/by-id"), &path),
            driver,
            product: Some(product).filter(|text| !text.is_empty()),
            usb_id: number("idVendor").zip(number("idProduct")),
            serial_number: text("serial"),
            since: fs::metadata(&path).and_then(|metadata| metadata.modified()).ok(),
            users: users_of(&path),
            path,
        });
    }
    found.sort_by(|one, other| other.since.cmp(&one.since).then_with(|| one.path.cmp(&other.path)));
    Ok(found)
}

fn name_of(path: &Path) -> Option<String> {
    path.file_name().map(|name| name.to_string_lossy().into_owned())
}

/// The folder of the USB device that a port belongs to: the nearest one above with a vendor.
fn usb_device(device: &Path) -> Option<PathBuf> {
    let real = fs::canonicalize(device).ok()?;
    real.ancestors().find(|folder| folder.join("idVendor").exists()).map(Path::to_owned)
}

fn lasting_path(folder: &Path, path: &Path) -> Option<PathBuf> {
    let path = fs::canonicalize(path).ok()?;
    let links = fs::read_dir(folder).ok()?.flatten().map(|entry| entry.path());
    links.filter(|link| fs::canonicalize(link).is_ok_and(|to| to == path)).min()
}

/// The group that may use a device.
pub(crate) fn group_of(path: &Path) -> Option<String> {
    use std::os::unix::fs::MetadataExt;
    let group = nix::unistd::Gid::from_raw(fs::metadata(path).ok()?.gid());
    nix::unistd::Group::from_gid(group).ok()?.map(|group| group.name)
}

/// The other programs that have a file open, by name and process number, as far as they may be looked at.
pub(crate) fn users_of(path: &Path) -> Vec<String> {
    let Ok(path) = fs::canonicalize(path) else { return Vec::new() };
    let mut users = Vec::new();
    let processes = fs::read_dir("/proc").into_iter().flatten().flatten();
    for process in processes {
        let number = process.file_name().to_string_lossy().into_owned();
        if number == std::process::id().to_string() || !number.bytes().all(|byte| byte.is_ascii_digit()) {
            continue;
        }
        let files = fs::read_dir(process.path().join("fd")).into_iter().flatten().flatten();
        if files.filter_map(|file| fs::read_link(file.path()).ok()).any(|open| open == path) {
            let name = fs::read_to_string(process.path().join("comm")).unwrap_or_default();
            users.push(format!("{} (process {number})", name.trim()));
        }
    }
    users
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::symlink;

    use super::*;

    /// A list as the kernel keeps it: one adapter, one port without a chip, one console.
    #[test]
    fn ports_are_listed_with_what_is_known_of_them() {
        let folder = tempfile::tempdir().unwrap();
        let at = |path: &str| folder.path().join(path);
        let file = |path: &str, text: &str| {
            fs::create_dir_all(at(path).parent().unwrap()).unwrap();
            fs::write(at(path), text).unwrap();
        };
        file("devices/usb1/1-1/idVendor", "1A2b\n");
        file("devices/usb1/1-1/idProduct", "0007\n");
        file("devices/usb1/1-1/manufacturer", "Marlock\n");
        file("devices/usb1/1-1/product", "Keeper's cable\n");
        file("devices/usb1/1-1/serial", "K42\n");
        file("devices/usb1/1-1/1-1:1.0/ttyUSB0/here", "");
        file("drivers/cable/here", "");
        symlink(at("drivers/cable"), at("devices/usb1/1-1/1-1:1.0/ttyUSB0/driver")).unwrap();
        fs::create_dir_all(at("class/ttyUSB0")).unwrap();
        symlink(at("devices/usb1/1-1/1-1:1.0/ttyUSB0"), at("class/ttyUSB0/device")).unwrap();
        file("class/ttyS0/device/here", "");
        file("class/ttyS0/type", "0\n");
        fs::create_dir_all(at("class/tty1")).unwrap();
        for name in ["dev/ttyUSB0", "dev/ttyS0", "dev/tty1"] {
            file(name, "");
        }
        fs::create_dir_all(at("dev/serial/by-id")).unwrap();
        symlink(at("dev/ttyUSB0"), at("dev/serial/by-id/usb-Keeper_K42")).unwrap();
        let found = serial_ports_in(&at("class"), &at("dev")).unwrap();
        assert_eq!(found.len(), 1, "{found:?}");
        let port = &found[0];
        assert_eq!((&port.path, port.usb_id), (&at("dev/ttyUSB0"), Some((0x1A2B, 7))));
        assert_eq!(port.lasting_path, Some(at("dev/serial/by-id/usb-Keeper_K42")));
        let texts = [&port.driver, &port.product, &port.serial_number].map(|text| text.as_deref().unwrap_or_default());
        assert_eq!(texts, ["cable", "Marlock Keeper's cable", "K42"]);
    }
}
