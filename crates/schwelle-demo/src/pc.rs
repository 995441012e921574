//! The demo's PCs: simulated ones, in which the switch is played.

use std::fs;
use std::path::{Path, PathBuf};

use anyhow::{Context, Result};
use schwelle_core::firmware::{GLOBAL, Variable, Variables, certificate_list};
use uuid::Uuid;

/// Certificates of the demo's keys (`standins/sign.sh`), DER.
const PLATFORM_KEY: &[u8] = include_bytes!("../assets/keys/platform.der");
const EXCHANGE_KEY: &[u8] = include_bytes!("../assets/keys/exchange.der");
/// The certificate that leads to the signature of the stand-in boot manager.
pub const BOOT_KEY: &[u8] = include_bytes!("../assets/keys/boot.der");

/// Who has put the demo's keys into the firmware.
const OWNER: Uuid = Uuid::from_u128(0x4C41_4D50_524F_4F4D_4F57_4E45_5253_4B59);

/// Makes a PC with this disk image in `dir`: its machine file, and a folder with its firmware's
/// variables, the keys that its manufacturer delivers among them. Gives the machine file's path.
pub fn make_pc(dir: &Path, name: &str, image: &str) -> Result<PathBuf> {
    let folder = dir.join(format!("{name}.variables"));
    fs::create_dir(&folder).with_context(|| folder.display().to_string())?;
    let variables = Variables::open(&folder).context("a folder just made")?;
    for (name, certificate) in [
        ("PKDefault", PLATFORM_KEY),
        ("KEKDefault", EXCHANGE_KEY),
        ("dbDefault", BOOT_KEY),
    ] {
        put(&variables, name, 6, certificate_list(certificate, OWNER))?;
    }
    put(&variables, "SecureBoot", 6, vec![0])?;
    put(&variables, "SetupMode", 6, vec![1])?;
    put(
        &variables,
        "OsIndicationsSupported",
        6,
        vec![1, 0, 0, 0, 0, 0, 0, 0],
    )?;
    // One entry of the manufacturer's own: a shell inside the firmware (firmware file node, end node).
    let mut shell = vec![1, 0, 0, 0, 24, 0];
    shell.extend(schwelle_core::bytes::utf16_bytes("Harbour Shell\0"));
    shell.extend([4, 6, 20, 0]);
    shell.extend(OWNER.to_bytes_le());
    shell.extend([0x7F, 0xFF, 4, 0]);
    put(&variables, "Boot0000", 7, shell)?;
    put(&variables, "BootOrder", 7, vec![0, 0])?;

    let path = dir.join(format!("{name}.toml"));
    let text = format!(
        "# A simulated PC: schwelle firmware --machine {name}.toml start\n\
         [pc]\nmanufacturer = \"Skerry Works\"\nmodel = \"Tide Gauge 4\"\nfirmware = \"Northpier 2.8\"\n\
         firmware_date = \"03/11/2016\"\n\n\
         [firmware]\nuefi = true\nbits = 64\nmode = \"bios\"          # as the factory set it\n\
         csm = true   # the module with which it starts MBR disks\n\
         setup_password = false\n\
         variables = \"{name}.variables\"\n\n\
         [power]\nsource = \"mains\"\n\n[[disk]]\nimage = \"{image}\"\n"
    );
    fs::write(&path, text).with_context(|| path.display().to_string())?;
    Ok(path)
}

fn put(variables: &Variables, name: &str, attributes: u32, data: Vec<u8>) -> Result<()> {
    let variable = Variable { attributes, data };
    Ok(variables.write(name, GLOBAL, &variable)?)
}
