//! Hand-outs as PDF, a sheet of A4 each. Letters are Latin, Greek and Cyrillic; others show as boxes.

use jiff::tz::TimeZone;
use krilla::Document;
use krilla::color::rgb;
use krilla::geom::{PathBuilder, Point, Rect};
use krilla::page::PageSettings;
use krilla::paint::Fill;
use krilla::surface::Surface;
use krilla::text::{Font, TextDirection};
use qrcode::{Color, QrCode};
use ttf_parser::Face;

use super::{Block, HandOut};

static REGULAR: &[u8] = include_bytes!("../../fonts/inter-regular.ttf");
static SEMIBOLD: &[u8] = include_bytes!("../../fonts/inter-semibold.ttf");

/// A4 and its margins, in points of 1/72 inch.
const WIDTH: f32 = 595.28;
const HEIGHT: f32 = 841.89;
const MARGIN: f32 = 54.0;
/// Where what is said of a term begins.
const SAID: f32 = MARGIN + 136.0;
const QR_SIDE: f32 = 108.0;

/// Why there is no PDF.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("the PDF could not be made: {0}")]
pub(crate) struct PdfError(String);

/// A font with what is needed to break lines.
struct Type {
    font: Font,
    face: Face<'static>,
}

impl Type {
    fn load(bytes: &'static [u8]) -> Result<Self, PdfError> {
        let font = Font::new(bytes.to_vec().into(), 0).ok_or_else(|| PdfError("its font cannot be read".into()))?;
        let face = Face::parse(bytes, 0).map_err(|e| PdfError(e.to_string()))?;
        Ok(Self { font, face })
    }

    fn width(&self, text: &str, size: f32) -> f32 {
        let units = f32::from(self.face.units_per_em());
        let glyph = |c| self.face.glyph_index(c).unwrap_or_default();
        text.chars().map(|c| f32::from(self.face.glyph_hor_advance(glyph(c)).unwrap_or_default())).sum::<f32>() * size / units
    }

    /// Breaks text into lines, between words, or behind a hyphen, or anywhere when a word is wider than a line.
    fn lines(&self, text: &str, size: f32, width: f32) -> Vec<String> {
        let mut lines = vec![String::new()];
        for piece in text.split_inclusive([' ', '-']) {
            for piece in self.cut(piece, size, width) {
                let line = lines.last_mut().expect("there is always one");
                if !line.is_empty() && self.width(&format!("{line}{}", piece.trim_end()), size) > width {
                    lines.push(piece);
                } else {
                    line.push_str(&piece);
                }
            }
        }
        lines
    }

    fn cut(&self, piece: &str, size: f32, width: f32) -> Vec<String> {
        if self.width(piece, size) <= width {
            return vec![piece.to_owned()];
        }
        let mut parts = vec![String::new()];
        for c in piece.chars() {
            let part = parts.last_mut().expect("there is always one");
            if !part.is_empty() && self.width(&format!("{part}{c}"), size) > width {
                parts.push(c.into());
            } else {
                part.push(c);
            }
        }
        parts
    }
}

/// All hand-outs in one document; days are those of `zone`.
pub(crate) fn render(hand_outs: &[HandOut], zone: &TimeZone) -> Result<Vec<u8>, PdfError> {
    let (regular, semibold) = (Type::load(REGULAR)?, Type::load(SEMIBOLD)?);
    let mut document = Document::new();
    for hand_out in hand_outs {
        let settings = PageSettings::from_wh(WIDTH, HEIGHT).ok_or_else(|| PdfError("a page has no size".into()))?;
        let mut page = document.start_page_with(settings);
        // The surface ends with its sheet, before the page does.
        {
            let mut sheet = Sheet { surface: page.surface(), regular: &regular, semibold: &semibold, y: MARGIN };
            hand_out.blocks(zone).iter().try_for_each(|block| sheet.draw(block))?;
        }
        page.finish();
    }
    document.finish().map_err(|e| PdfError(format!("{e:?}")))
}

/// A sheet that is filled from the top.
struct Sheet<'s, 'd> {
    surface: Surface<'d>,
    regular: &'s Type,
    semibold: &'s Type,
    /// Where the next line's top is.
    y: f32,
}

impl Sheet<'_, '_> {
    fn draw(&mut self, block: &Block) -> Result<(), PdfError> {
        let all = WIDTH - 2.0 * MARGIN;
        match block {
            Block::Title(text) => self.write(text, self.semibold, 20.0, MARGIN, all),
            Block::Heading(text) => {
                self.y += 14.0;
                self.write(text, self.semibold, 12.0, MARGIN, all);
                let mut line = PathBuilder::new();
                Rect::from_xywh(MARGIN, self.y, all, 0.6).into_iter().for_each(|rule| line.push_rect(rule));
                self.fill(line, rgb::Color::new(174, 186, 198));
                self.y += 5.0;
            }
            Block::Text(text) => self.write(text, self.regular, 10.5, MARGIN, all),
            Block::Steps(steps) => {
                for (i, step) in steps.iter().enumerate() {
                    let top = self.y;
                    self.write(&format!("{}.", i + 1), self.semibold, 10.5, MARGIN, 18.0);
                    self.y = top;
                    self.write(step, self.regular, 10.5, MARGIN + 18.0, all - 18.0);
                }
            }
            Block::Terms(terms) => {
                for (term, said) in terms {
                    let top = self.y;
                    self.write(term, self.semibold, 10.0, MARGIN, SAID - MARGIN - 8.0);
                    let below = std::mem::replace(&mut self.y, top);
                    self.write(said, self.regular, 10.0, SAID, WIDTH - MARGIN - SAID);
                    self.y = self.y.max(below);
                }
            }
            Block::Code(code) => self.code(code)?,
        }
        Ok(())
    }

    fn write(&mut self, text: &str, kind: &Type, size: f32, x: f32, width: f32) {
        for line in kind.lines(text, size, width) {
            let start = Point::from_xy(x, self.y + size);
            self.surface.draw_text(start, kind.font.clone(), size, line.trim_end(), false, TextDirection::Auto);
            self.y += size * 1.42;
        }
    }

    /// The code, with its QR code (ISO/IEC 18004) on the left.
    fn code(&mut self, code: &str) -> Result<(), PdfError> {
        let qr = QrCode::new(code).map_err(|e| PdfError(e.to_string()))?;
        self.y += 10.0;
        let (top, modules) = (self.y, qr.width());
        let side = QR_SIDE / modules as f32;
        let mut path = PathBuilder::new();
        for (i, color) in qr.to_colors().into_iter().enumerate() {
            let (x, y) = ((i % modules) as f32 * side, (i / modules) as f32 * side);
            // A little more than a module, so that no gaps show between them.
            let module = Rect::from_xywh(MARGIN + x, top + y, side + 0.05, side + 0.05);
            module.into_iter().filter(|_| color == Color::Dark).for_each(|module| path.push_rect(module));
        }
        self.fill(path, rgb::Color::new(0, 0, 0));
        let x = MARGIN + QR_SIDE + 20.0;
        let lines = self.semibold.lines(code, 12.5, WIDTH - MARGIN - x).len() as f32;
        self.y = top + ((QR_SIDE - lines * 12.5 * 1.42) / 2.0).max(0.0);
        self.write(code, self.semibold, 12.5, x, WIDTH - MARGIN - x);
        self.y = self.y.max(top + QR_SIDE);
        Ok(())
    }

    fn fill(&mut self, path: PathBuilder, color: rgb::Color) {
        if let Some(path) = path.finish() {
            self.surface.set_fill(Some(Fill { paint: color.into(), ..Fill::default() }));
            self.surface.draw_path(&path);
            self.surface.set_fill(None);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::tests::hand_out;
    use super::*;

    #[test]
    fn lines_are_no_wider_than_the_page_and_lose_nothing() {
        let kind = Type::load(REGULAR).expect("a font");
        let text = format!("A word, a-hyphenated-code and {} which is too long.", "x".repeat(200));
        let lines = kind.lines(&text, 10.0, 120.0);
        assert_eq!(lines.concat(), text);
        assert!(lines.iter().all(|line| kind.width(line.trim_end(), 10.0) <= 120.0), "{lines:?}");
    }

    #[test]
    fn the_fonts_have_the_letters_of_our_names() {
        for bytes in [REGULAR, SEMIBOLD] {
            let face = Face::parse(bytes, 0).expect("a font");
            assert!("Åsa Łukasz Ζωή Юлия ß’–".chars().all(|c| face.glyph_index(c).is_some()));
        }
    }

    #[test]
    fn there_is_a_sheet_for_each() {
        let bytes = render(&[hand_out(), hand_out(), hand_out()], &TimeZone::UTC).expect("a document");
        assert!(bytes.starts_with(b"%PDF-"));
        let text = String::from_utf8_lossy(&bytes);
        assert!(text.contains("/Count 3"), "three pages");
    }
}
