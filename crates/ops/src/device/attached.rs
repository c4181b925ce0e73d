//! Devices at this machine's USB bus, where the system tells of them.

use std::fs;
use std::path::Path;

use super::identifier;

/// Where Linux tells of them.
pub const USB: &str = "/sys/bus/usb/devices";
/// The vendor id of the platform's devices.
const VENDOR: &str = "05ac";

/// A device at the bus.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Attached {
    /// Its hardware identifier.
    pub identifier: String,
    /// What it calls itself.
    pub product: String,
}

/// The devices at the bus that have an identifier; none where the system does not tell.
pub fn attached(bus: &Path) -> Vec<Attached> {
    let Ok(entries) = fs::read_dir(bus) else { return Vec::new() };
    let read = |folder: &Path, name: &str| {
        fs::read_to_string(folder.join(name)).ok().map(|text| text.trim().to_owned())
    };
    let mut out: Vec<Attached> = entries
        .filter_map(|entry| {
            let folder = entry.ok()?.path();
            if read(&folder, "idVendor")?.to_ascii_lowercase() != VENDOR {
                return None;
            }
            let serial = read(&folder, "serial")?;
            // the bus has the newer form without its dash
            let dashed = match (serial.get(..8), serial.get(8..)) {
                (Some(chip), Some(unit)) if serial.len() == 24 => format!("{chip}-{unit}"),
                _ => serial,
            };
            let identifier = identifier(&dashed).ok()?;
            Some(Attached { identifier, product: read(&folder, "product").unwrap_or_default() })
        })
        .collect();
    out.sort_by(|a, b| a.identifier.cmp(&b.identifier));
    out.dedup();
    out
}

#[cfg(test)]
#[expect(clippy::disallowed_methods, reason = "tests write their own files")]
mod tests {
    use super::*;

    #[test]
    fn a_device_is_told_by_vendor_and_serial_and_hubs_are_not() {
        let bus = tempfile::tempdir().unwrap();
        let put = |name: &str, files: &[(&str, &str)]| {
            fs::create_dir(bus.path().join(name)).unwrap();
            files.iter().for_each(|(file, text)| fs::write(bus.path().join(name).join(file), text).unwrap());
        };
        put(
            "1-1",
            &[("idVendor", "05ac\n"), ("serial", "00008030001122334455667E\n"), ("product", "Phone\n")],
        );
        put("1-2", &[("idVendor", "05ac\n"), ("serial", "keyboard\n")]);
        put("1-3", &[("idVendor", "1d6b\n"), ("serial", "00008030001122334455667F\n")]);
        put("1-4", &[("idVendor", "05ac\n")]);
        let found = attached(bus.path());
        let one = Attached { identifier: "00008030-001122334455667E".into(), product: "Phone".into() };
        assert_eq!(found, [one]);
        assert!(attached(&bus.path().join("nowhere")).is_empty());
    }
}
