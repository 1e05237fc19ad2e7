//! Short texts of one shape as numbers: which letters can stand at each place makes each text a number of mixed radix.
//! The numbers keep the order of the texts.

/// The longest text that can have a template.
const PLACES: usize = 64;
/// No letter of the place.
const NONE: u16 = u16::MAX;

/// Which letters can stand at each place of a text.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Template {
    places: Vec<Place>,
}

/// One place of a template.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Place {
    /// The bytes that can stand here, in order.
    letters: Vec<u8>,
    /// Whether a text can end before this place.
    open: bool,
    /// By byte: its number here; 0 is the end of the text where the place is open.
    digits: Box<[u16; 256]>,
}

impl Place {
    fn new(letters: Vec<u8>, open: bool) -> Place {
        let mut digits = Box::new([NONE; 256]);
        for (i, letter) in letters.iter().enumerate() {
            digits[usize::from(*letter)] = i as u16 + u16::from(open);
        }
        Place { letters, open, digits }
    }

    fn radix(&self) -> u64 {
        self.letters.len() as u64 + u64::from(self.open)
    }
}

/// The bytes seen at a place, as a set.
#[derive(Clone, Copy, Default)]
struct Seen([u64; 4]);

impl Seen {
    fn add(&mut self, byte: u8) {
        self.0[usize::from(byte >> 6)] |= 1 << (byte & 63);
    }

    fn letters(&self) -> Vec<u8> {
        (0..=255u8).filter(|b| self.0[usize::from(b >> 6)] >> (b & 63) & 1 == 1).collect()
    }
}

impl Template {
    /// The template of some texts; `None` when one of them is too long.
    pub fn of<'a>(texts: impl Iterator<Item = &'a [u8]>) -> Option<Template> {
        let mut seen = [Seen::default(); PLACES];
        let (mut shortest, mut longest) = (usize::MAX, 0);
        for text in texts {
            if text.len() > PLACES {
                return None;
            }
            shortest = shortest.min(text.len());
            longest = longest.max(text.len());
            seen.iter_mut().zip(text).for_each(|(place, byte)| place.add(*byte));
        }
        let places = seen[..longest].iter().enumerate().map(|(i, s)| Place::new(s.letters(), i >= shortest)).collect();
        Some(Template { places })
    }

    /// From what [`Template::parts`] gave; `None` if they are no template.
    pub fn from_parts(parts: Vec<(Vec<u8>, bool)>) -> Option<Template> {
        let fits =
            parts.len() <= PLACES && parts.iter().all(|(l, _)| !l.is_empty() && l.windows(2).all(|w| w[0] < w[1]));
        fits.then(|| Template { places: parts.into_iter().map(|(l, open)| Place::new(l, open)).collect() })
    }

    /// By place, the letters and whether a text can end before it.
    pub fn parts(&self) -> Vec<(Vec<u8>, bool)> {
        self.places.iter().map(|p| (p.letters.clone(), p.open)).collect()
    }

    /// A template for the texts of both.
    #[must_use]
    pub fn joined(&self, other: &Template) -> Template {
        let longest = self.places.len().max(other.places.len());
        let place = |i: usize| {
            let both = [self.places.get(i), other.places.get(i)];
            let mut seen = Seen::default();
            both.iter().flatten().flat_map(|p| &p.letters).for_each(|b| seen.add(*b));
            Place::new(seen.letters(), both.iter().any(|p| p.is_none_or(|p| p.open)))
        };
        Template { places: (0..longest).map(place).collect() }
    }

    /// The longest text.
    pub fn places(&self) -> usize {
        self.places.len()
    }

    /// How many texts fit; `None` when that is more than 2^63.
    pub fn count(&self) -> Option<u64> {
        self.places.iter().try_fold(1u64, |n, p| n.checked_mul(p.radix()).filter(|n| *n <= 1 << 63))
    }

    /// The number of a text among all that fit, in their order; `None` when it does not fit.
    pub fn rank(&self, text: &[u8]) -> Option<u64> {
        if text.len() > self.places.len() {
            return None;
        }
        let mut rank = 0u64;
        for (i, place) in self.places.iter().enumerate() {
            let digit = match text.get(i) {
                Some(byte) => place.digits[usize::from(*byte)],
                None if place.open => 0,
                None => NONE,
            };
            if digit == NONE {
                return None;
            }
            rank = rank * place.radix() + u64::from(digit);
        }
        Some(rank)
    }

    /// Appends the text of a number.
    pub fn write(&self, rank: u64, to: &mut Vec<u8>) {
        let start = to.len();
        let mut end = start + self.places.len();
        to.resize(end, 0);
        let mut rest = rank;
        for (i, place) in self.places.iter().enumerate().rev() {
            let radix = place.radix();
            let digit = if radix == 1 {
                0
            } else {
                let digit = rest % radix;
                rest /= radix;
                digit
            };
            match digit.checked_sub(u64::from(place.open)) {
                Some(letter) => to[start + i] = place.letters[letter as usize],
                None => end = start + i,
            }
        }
        to.truncate(end);
    }

    /// Bytes on the heap.
    pub fn heap_bytes(&self) -> usize {
        self.places.len() * (size_of::<Place>() + size_of::<[u16; 256]>())
            + self.places.iter().map(|p| p.letters.len()).sum::<usize>()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn texts_are_numbers_in_their_order() {
        let mut texts = ["", "A", "A1", "AB", "B", "B1x", "Ä"];
        texts.sort_unstable();
        let template = Template::of(texts.iter().map(|t| t.as_bytes())).expect("short enough");
        let ranks: Vec<u64> = texts.iter().map(|t| template.rank(t.as_bytes()).expect("fits")).collect();
        assert!(ranks.windows(2).all(|w| w[0] < w[1]), "{ranks:?}");
        for (text, rank) in texts.iter().zip(&ranks) {
            let mut written = Vec::new();
            template.write(*rank, &mut written);
            assert_eq!(written, text.as_bytes());
        }
        assert!(ranks.iter().all(|r| *r < template.count().expect("few")));
        for text in ["C", "A1xy", "ABC", "1"] {
            assert_eq!(template.rank(text.as_bytes()), None, "{text}");
        }
        assert_eq!(Template::from_parts(template.parts()), Some(template.clone()));
        let long = Template::of(["AB-9", "AB-8"].map(str::as_bytes).into_iter()).expect("short enough");
        let joined = template.joined(&long);
        assert!(texts.iter().chain(&["AB-9", "AB-8"]).all(|t| joined.rank(t.as_bytes()).is_some()));
    }

    #[test]
    fn too_many_or_too_long_texts_have_no_numbers() {
        let wide: String = (b'a'..=b'z').map(char::from).collect();
        let texts: Vec<String> = (0..26).map(|i| wide[i..].to_string() + &wide[..i]).collect();
        assert_eq!(Template::of(texts.iter().map(String::as_bytes)).expect("short enough").count(), None);
        assert!(Template::of([wide.repeat(3).as_bytes()].into_iter()).is_none());
    }
}
