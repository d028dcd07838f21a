//! QR pictures (ISO/IEC 18004) that carry the seed of one-time codes, as a page shows them when a
//! second step is set up.

use std::io::Cursor;

use image::ImageReader;

use super::one_time::Seed;
use crate::secret::Secret;

/// The largest picture, in bytes.
pub const MOST_BYTES: usize = 8 * 1024 * 1024;
/// The longest side, in pixels.
const MOST_SIDE: u32 = 8_000;

/// Reads the seed out of a PNG or JPEG picture; returns its address.
///
/// # Errors
/// A sentence that repeats nothing of what the picture says.
pub fn read_seed(picture: &[u8]) -> Result<Secret, String> {
    if picture.len() > MOST_BYTES {
        return Err(format!(
            "the picture has {} bytes; at most {MOST_BYTES} are possible",
            picture.len()
        ));
    }
    let damaged = "the picture cannot be read: it is damaged, or neither PNG nor JPEG".to_owned();
    let mut reader = ImageReader::new(Cursor::new(picture))
        .with_guessed_format()
        .map_err(|_| damaged.clone())?;
    let mut limits = image::Limits::default();
    limits.max_image_width = Some(MOST_SIDE);
    limits.max_image_height = Some(MOST_SIDE);
    limits.max_alloc = Some(256 * 1024 * 1024);
    reader.limits(limits);
    let grey = reader.decode().map_err(|_| damaged)?.into_luma8();
    let (width, height) = (grey.width() as usize, grey.height() as usize);
    let at = |x: usize, y: usize| grey.as_raw().get(y * width + x).copied().unwrap_or(255);
    let mut prepared = rqrr::PreparedImage::prepare_from_greyscale(width, height, at);
    let grids = prepared.detect_grids();
    if grids.is_empty() {
        return Err("there is no QR code in the picture; crop it so that the whole code and a white border are in it".into());
    }
    let mut said = "the QR code in the picture cannot be read; take a sharper one".to_owned();
    for grid in grids {
        if let Ok((_, text)) = grid.decode() {
            let text = Secret::from_text(text);
            match Seed::parse_address(text.expose_secret_text().unwrap_or_default()) {
                Ok(seed) => return Ok(seed.to_address()),
                Err(problem) => {
                    said = format!("the QR code does not hold a seed of one-time codes: {problem}")
                }
            }
        }
    }
    Err(said)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_picture_of_a_seed_gives_the_seed() {
        let seed = read_seed(include_bytes!("testdata/seed.png")).unwrap();
        assert_eq!(
            seed.expose_secret_text().unwrap(),
            "otpauth://totp/Bank:payments%40osmere.example?secret=JBSWY3DPEHPK3PXPJBSWY3DPEHPK3PXP&algorithm=SHA1&digits=6&period=30"
        );
    }

    #[test]
    fn a_picture_of_something_else_says_so_and_does_not_repeat_it() {
        assert!(
            read_seed(include_bytes!("testdata/blank.png"))
                .unwrap_err()
                .contains("no QR code")
        );
        let other = read_seed(include_bytes!("testdata/other.png")).unwrap_err();
        assert!(
            other.contains("does not hold a seed") && !other.contains("Winter"),
            "{other}"
        );
        assert!(
            read_seed(b"not a picture")
                .unwrap_err()
                .contains("neither PNG nor JPEG")
        );
        let png = include_bytes!("testdata/seed.png");
        assert!(read_seed(&png[..png.len() / 2]).is_err());
    }
}
