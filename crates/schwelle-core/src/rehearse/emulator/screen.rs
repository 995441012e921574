//! The guest's screen as a picture.

use std::io;
use std::path::Path;

use crate::bytes::read_file;

/// A screen has no more pixels than this.
const MAX_PIXELS: usize = 16 << 20;

/// Turns the emulator's dump of the screen (a binary PPM with 8 bits for a colour) into a PNG.
pub(super) fn png_of(dump: &Path) -> io::Result<Vec<u8>> {
    let bad = || io::Error::other("the emulator's picture of the screen makes no sense");
    let bytes = read_file(dump, MAX_PIXELS as u64 * 3 + 64)?;
    let mut at = 0;
    let mut word = || {
        let rest = bytes.get(at..)?;
        let len = rest.iter().position(u8::is_ascii_whitespace)?;
        at += len + 1;
        std::str::from_utf8(rest.get(..len)?)
            .ok()
            .map(str::to_owned)
    };
    let head = [word(), word(), word(), word()];
    let [Some(magic), Some(width), Some(height), Some(most)] = head else {
        return Err(bad());
    };
    let size = |text: &str| text.parse::<u32>().ok().filter(|&size| size > 0);
    let (width, height) = size(&width).zip(size(&height)).ok_or_else(bad)?;
    let pixels = usize::try_from(u64::from(width) * u64::from(height)).ok();
    let pixels = pixels
        .filter(|&pixels| pixels <= MAX_PIXELS)
        .ok_or_else(bad)?;
    let content = bytes.get(at..).filter(|rest| rest.len() == pixels * 3);
    let content = content.ok_or_else(bad)?;
    if magic != "P6" || most != "255" {
        return Err(bad());
    }
    let mut out = Vec::new();
    let mut encoder = png::Encoder::new(&mut out, width, height);
    encoder.set_color(png::ColorType::Rgb);
    let mut writer = encoder.write_header().map_err(io::Error::other)?;
    writer.write_image_data(content).map_err(io::Error::other)?;
    writer.finish().map_err(io::Error::other)?;
    Ok(out)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_dump_becomes_a_picture_of_the_same_pixels_and_nonsense_does_not() {
        let dir = tempfile::tempdir().unwrap();
        let dump = dir.path().join("dump");
        let good = b"P6\n2 1\n255\n\x01\x02\x03\xFF\x00\x80".to_vec();
        std::fs::write(&dump, &good).unwrap();
        let made = png_of(&dump).unwrap();
        let mut reader = png::Decoder::new(io::Cursor::new(made))
            .read_info()
            .unwrap();
        let mut pixels = vec![0; reader.output_buffer_size().unwrap()];
        let frame = reader.next_frame(&mut pixels).unwrap();
        assert_eq!((frame.width, frame.height), (2, 1));
        assert_eq!(pixels, [1, 2, 3, 0xFF, 0, 0x80]);
        for bad in [
            &good[..good.len() - 1],
            b"P5\n2 1\n255\n\x01\x02\x03\xFF\x00\x80",
            b"P6\n99999 99999\n255\n",
            b"P6\n0 1\n255\n",
            b"P6",
            b"",
        ] {
            std::fs::write(&dump, bad).unwrap();
            assert!(png_of(&dump).is_err(), "{bad:?}");
        }
    }
}
