//! What the first chunk of a file's content looks like: whether a person or a program could tell what it is. Content that somebody encrypted can be
//! told from work by that: nothing in it has a type, and all bytes are equally frequent.

/// Bytes at the beginning that are looked at.
const LOOKED_AT: usize = 4 << 10;
/// By here every type shows that is known.
const TYPE_SHOWS_BY: usize = 64 << 10;
/// Of fewer bytes nothing is concluded from how frequent each is.
const FEWEST: usize = 256;
/// Pearson's chi-square of bytes that are equally frequent is 255 with a standard deviation of 22.6: above this they are not. What is merely
/// compressed is mostly above it, too.
const MOST_CHI_SQUARE: f64 = 255.0 + 6.0 * 22.6;

/// What a file's content looks like.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
#[repr(u8)]
pub(crate) enum Form {
    /// It is empty, or too short to say.
    #[default]
    Unknown = 0,
    /// It begins as a known type does.
    Typed = 1,
    /// It is text.
    Text = 2,
    /// It has a structure, of whatever kind.
    Structured = 3,
    /// All bytes are equally frequent.
    Random = 4,
    /// All bytes are the same.
    Blank = 5,
}

impl Form {
    /// The form of content that begins so: of a file's first chunk.
    pub(crate) fn of(content: &[u8]) -> Self {
        match Self::of_head(content) {
            // Some leave the beginning as it was.
            Self::Text | Self::Structured if is_random(further_in(content)) => Self::Random,
            form => form,
        }
    }

    fn of_head(content: &[u8]) -> Self {
        let head = &content[..content.len().min(LOOKED_AT)];
        if is_text(head) {
            return if head.is_empty() { Self::Unknown } else { Self::Text };
        }
        if head.len() > 1 && head.iter().all(|byte| *byte == head[0]) {
            return Self::Blank;
        }
        // Some types show further in.
        if infer::get(&content[..content.len().min(TYPE_SHOWS_BY)]).is_some() {
            return Self::Typed;
        }
        match head.len() {
            ..FEWEST => Self::Unknown,
            _ if is_random(head) => Self::Random,
            _ => Self::Structured,
        }
    }

    /// From the number that was kept.
    pub(crate) fn from_number(number: u8) -> Option<Self> {
        [Self::Unknown, Self::Typed, Self::Text, Self::Structured, Self::Random, Self::Blank]
            .into_iter()
            .find(|form| *form as u8 == number)
    }

    /// Whether it can be told what it is.
    pub(crate) fn is_recognisable(self) -> bool {
        matches!(self, Self::Typed | Self::Text | Self::Structured)
    }

    /// Whether it has nothing by which it could be told.
    pub(crate) fn is_featureless(self) -> bool {
        matches!(self, Self::Random | Self::Blank)
    }
}

/// Whether it is UTF-8, but for a character that is cut off at the end, without control characters that no text has.
fn is_text(bytes: &[u8]) -> bool {
    let text = match std::str::from_utf8(bytes) {
        Ok(text) => text,
        Err(error) if error.error_len().is_none() => std::str::from_utf8(&bytes[..error.valid_up_to()]).unwrap_or_default(),
        Err(_) => return false,
    };
    let is_of_text = |c: char| !c.is_ascii_control() || matches!(c, '\t' | '\n' | '\r' | '\x0c' | '\x08' | '\x1b');
    text.chars().all(is_of_text) && (bytes.is_empty() || !text.is_empty())
}

/// The last bytes, as many as are looked at, where they are apart from the first.
fn further_in(content: &[u8]) -> &[u8] {
    content.get(2 * LOOKED_AT..).and_then(|rest| rest.last_chunk::<LOOKED_AT>()).map_or(&[], <[u8; LOOKED_AT]>::as_slice)
}

/// Whether there are enough bytes, all equally frequent.
fn is_random(bytes: &[u8]) -> bool {
    bytes.len() >= FEWEST && chi_square(bytes) < MOST_CHI_SQUARE
}

/// Pearson's chi-square of the bytes against all of them being equally frequent.
fn chi_square(bytes: &[u8]) -> f64 {
    let mut counts = [0_u32; 256];
    bytes.iter().for_each(|byte| counts[usize::from(*byte)] += 1);
    #[expect(clippy::cast_precision_loss, reason = "few bytes are looked at")]
    let expected = bytes.len() as f64 / 256.0;
    counts.iter().map(|n| (f64::from(*n) - expected).powi(2) / expected).sum()
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Bytes as good ciphers make them.
    fn random(seed: u32, len: usize) -> Vec<u8> {
        let mut bytes = vec![0; len];
        blake3::Hasher::new().update(&seed.to_le_bytes()).finalize_xof().fill(&mut bytes);
        bytes
    }

    #[test]
    fn encrypted_content_looks_random_and_hardly_ever_like_anything_else() {
        let other = |len: usize| (0..2_000).filter(|seed| Form::of(&random(*seed, len)) != Form::Random).count();
        for len in [256, 700, 4 << 10, 100 << 10] {
            assert!(other(len) <= 8, "{} of 2,000 of {len} bytes", other(len));
        }
    }

    #[test]
    fn what_people_and_programs_write_does_not_look_random() {
        let numbers: Vec<u8> = (0..2_000_u32).flat_map(|n| (n * n).to_le_bytes()).collect();
        let words = "Die Sitzung beginnt um neun. ".repeat(40).into_bytes();
        let packed = tar::Builder::new(Vec::new()).into_inner().expect("an archive");
        let samples: [(&[u8], Form); 9] = [
            (b"", Form::Unknown),
            (&[7], Form::Unknown),
            (b"ok", Form::Text),
            (&words, Form::Text),
            (&numbers, Form::Structured),
            (b"%PDF-1.7\n\xe2\xe3\xcf\xd3", Form::Typed),
            (b"PK\x03\x04\x14\0\0\0\x08\0", Form::Typed),
            (b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1 a sheet of old", Form::Typed),
            (&packed, Form::Blank),
        ];
        for (content, form) in samples {
            assert_eq!(Form::of(content), form, "{:?}", &content[..content.len().min(12)]);
        }
    }

    #[test]
    fn what_is_encrypted_behind_a_beginning_that_was_left_as_it_was_looks_random() {
        let words = "Die Sitzung beginnt um neun. ".repeat(900).into_bytes();
        assert_eq!(Form::of(&words), Form::Text);
        assert_eq!(Form::of(&[&words[..LOOKED_AT], &random(9, 9_000)].concat()), Form::Random);
        let typed = [b"PK\x03\x04\x14\0\0\0\x08\0".as_slice(), &random(9, 30_000)].concat();
        assert_eq!(Form::of(&typed), Form::Typed, "what is packed looks random behind its type");
    }

    #[test]
    fn text_may_be_cut_within_a_character_and_is_none_with_stray_bytes() {
        let text = "ü".repeat(LOOKED_AT);
        assert_eq!(Form::of(&text.as_bytes()[..LOOKED_AT - 1]), Form::Text);
        assert_ne!(Form::of(b"r\xfcckw\xe4rts in another encoding, and with \x00 in it"), Form::Text);
    }

    #[test]
    fn each_form_is_kept_as_a_number_of_its_own() {
        let kept: Vec<Form> = (0..=255).filter_map(Form::from_number).collect();
        assert_eq!(kept.len(), 6);
        assert!(kept.iter().all(|form| Form::from_number(*form as u8) == Some(*form)));
    }
}
