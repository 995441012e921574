//! The guest's screen as a picture.

use std::fs::File;
use std::io::{self, Read};

/// A screen has no more pixels than this.
const MAX_PIXELS: usize = 16 << 20;

/// What the guest's screen showed.
#[derive(Debug)]
pub(super) struct Picture {
    width: u32,
    height: u32,
    /// Red, green, blue of each pixel.
    pixels: Vec<u8>,
}

impl Picture {
    /// Reads the emulator's dump of the screen: a binary PPM with 8 bits for a colour.
    pub(super) fn read(dump: File) -> io::Result<Self> {
        let bad = || io::Error::other("the emulator's picture of the screen is invalid");
        let mut bytes = Vec::new();
        dump.take(MAX_PIXELS as u64 * 3 + 64)
            .read_to_end(&mut bytes)?;
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
        let count = usize::try_from(u64::from(width) * u64::from(height)).ok();
        let count = count.filter(|&count| count <= MAX_PIXELS).ok_or_else(bad)?;
        if magic != "P6" || most != "255" || bytes.len().checked_sub(at) != Some(count * 3) {
            return Err(bad());
        }
        bytes.drain(..at);
        Ok(Self {
            width,
            height,
            pixels: bytes,
        })
    }

    /// False for a screen of a single colour, as one is that was switched to another mode and not yet written to.
    pub(super) fn shows_something(&self) -> bool {
        let (pixels, _) = self.pixels.as_chunks::<3>();
        pixels.windows(2).any(|pair| pair[0] != pair[1])
    }

    /// The picture as a PNG.
    pub(super) fn png(&self) -> io::Result<Vec<u8>> {
        let mut out = Vec::new();
        let mut encoder = png::Encoder::new(&mut out, self.width, self.height);
        encoder.set_color(png::ColorType::Rgb);
        let mut writer = encoder.write_header().map_err(io::Error::other)?;
        writer
            .write_image_data(&self.pixels)
            .map_err(io::Error::other)?;
        writer.finish().map_err(io::Error::other)?;
        Ok(out)
    }
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
        let made = Picture::read(File::open(&dump).unwrap())
            .unwrap()
            .png()
            .unwrap();
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
            assert!(
                Picture::read(File::open(&dump).unwrap()).is_err(),
                "{bad:?}"
            );
        }
    }

    #[test]
    fn a_screen_of_one_colour_shows_nothing() {
        let shows = |pixels: [u8; 6]| {
            let (width, height, pixels) = (1, 2, pixels.to_vec());
            Picture {
                width,
                height,
                pixels,
            }
            .shows_something()
        };
        assert!(!shows([0; 6]));
        assert!(!shows([1, 2, 3, 1, 2, 3]));
        assert!(shows([0, 0, 0, 0, 0, 1]));
    }
}
