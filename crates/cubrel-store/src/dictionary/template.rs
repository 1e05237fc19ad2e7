//! Short texts of one shape as numbers: which letters can stand at each place makes each text a number of mixed radix.
//! The numbers keep the order of the texts. Texts of many places, such as the 32 digits of a universal identifier, have two
//! numbers of 64 bits.

/// The longest text that can have a template.
const PLACES: usize = 64;
/// After so many texts it is looked whether there is still room for all that would fit.
const LOOKED: usize = 1 << 10;
/// No letter of the place.
const NONE: u16 = u16::MAX;

/// The number of a text among all that fit: of its first places and, where these have no room for more, of the others.
pub type TemplateRank = (u64, u64);

/// Which letters can stand at each place of a text.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Template {
    places: Vec<TemplatePlace>,
    /// How many places the first number has.
    first: usize,
    /// The largest numbers.
    most: TemplateRank,
}

/// One place of a template.
#[derive(Clone, Debug, PartialEq, Eq)]
struct TemplatePlace {
    /// The bytes that can stand here, in order.
    letters: Vec<u8>,
    /// Whether a text can end before this place.
    open: bool,
    /// By byte: its number here; 0 is the end of the text where the place is open.
    digits: Box<[u16; 256]>,
}

impl TemplatePlace {
    fn new(letters: Vec<u8>, open: bool) -> TemplatePlace {
        let mut digits = Box::new([NONE; 256]);
        for (i, letter) in letters.iter().enumerate() {
            digits[usize::from(*letter)] = i as u16 + u16::from(open);
        }
        TemplatePlace { letters, open, digits }
    }

    fn radix(&self) -> u64 {
        self.letters.len() as u64 + u64::from(self.open)
    }
}

/// The bytes seen at a place, as a set.
#[derive(Clone, Copy, Default)]
struct ByteSet([u64; 4]);

impl ByteSet {
    fn add(&mut self, byte: u8) {
        self.0[usize::from(byte >> 6)] |= 1 << (byte & 63);
    }

    /// Whether more texts could be made of these letters than two numbers can tell apart.
    fn are_too_many(places: &[ByteSet]) -> bool {
        let letters = |place: &ByteSet| f64::from(place.0.iter().map(|w| w.count_ones()).sum::<u32>());
        places.iter().map(|place| letters(place).log2()).sum::<f64>() > 128.5
    }

    fn letters(&self) -> Vec<u8> {
        (0..=255u8).filter(|b| self.0[usize::from(b >> 6)] >> (b & 63) & 1 == 1).collect()
    }
}

/// The largest number that places have; `None` when it takes more than 64 bits.
fn most(places: &[TemplatePlace]) -> Option<u64> {
    let more = |n: u128, place: &TemplatePlace| Some(n * u128::from(place.radix())).filter(|n| *n <= 1 << 64);
    places.iter().try_fold(1u128, more).map(|count| (count - 1) as u64)
}

impl Template {
    /// `None` where two numbers have no room for all texts.
    fn new(places: Vec<TemplatePlace>) -> Option<Template> {
        let first = (0..=places.len()).rev().find(|first| most(&places[..*first]).is_some()).unwrap_or(0);
        let most = most(&places[..first]).zip(most(&places[first..]))?;
        Some(Template { places, first, most })
    }

    /// The template of some texts; `None` when one of them is too long, or two numbers have no room for all that would fit.
    pub fn of<'a>(texts: impl Iterator<Item = &'a [u8]>) -> Option<Template> {
        let mut seen = [ByteSet::default(); PLACES];
        let (mut shortest, mut longest) = (usize::MAX, 0);
        for (i, text) in texts.enumerate() {
            if text.len() > PLACES || i % LOOKED == LOOKED - 1 && ByteSet::are_too_many(&seen[..longest]) {
                return None;
            }
            shortest = shortest.min(text.len());
            longest = longest.max(text.len());
            seen.iter_mut().zip(text).for_each(|(place, byte)| place.add(*byte));
        }
        let place = |(i, seen): (usize, &ByteSet)| TemplatePlace::new(seen.letters(), i >= shortest);
        Template::new(seen[..longest].iter().enumerate().map(place).collect())
    }

    /// From what [`Template::parts`] gave; `None` if they are no template.
    pub fn from_parts(parts: Vec<(Vec<u8>, bool)>) -> Option<Template> {
        let fits =
            parts.len() <= PLACES && parts.iter().all(|(l, _)| !l.is_empty() && l.windows(2).all(|w| w[0] < w[1]));
        let places = || parts.into_iter().map(|(l, open)| TemplatePlace::new(l, open)).collect();
        fits.then(places).and_then(Template::new)
    }

    /// By place, the letters and whether a text can end before it.
    pub fn parts(&self) -> Vec<(Vec<u8>, bool)> {
        self.places.iter().map(|p| (p.letters.clone(), p.open)).collect()
    }

    /// A template for the texts of both; `None` where two numbers have no room for all that would fit.
    pub fn joined(&self, other: &Template) -> Option<Template> {
        let longest = self.places.len().max(other.places.len());
        let place = |i: usize| {
            let both = [self.places.get(i), other.places.get(i)];
            let mut seen = ByteSet::default();
            both.iter().flatten().flat_map(|p| &p.letters).for_each(|b| seen.add(*b));
            TemplatePlace::new(seen.letters(), both.iter().any(|p| p.is_none_or(|p| p.open)))
        };
        Template::new((0..longest).map(place).collect())
    }

    /// The longest text.
    pub fn places(&self) -> usize {
        self.places.len()
    }

    /// The largest numbers that texts can have.
    pub fn most(&self) -> TemplateRank {
        self.most
    }

    /// Whether one number has room for all texts, so that the second is always 0.
    pub fn is_narrow(&self) -> bool {
        self.first == self.places.len()
    }

    /// The number of a text among all that fit, in their order; `None` when it does not fit.
    pub fn rank(&self, text: &[u8]) -> Option<TemplateRank> {
        if text.len() > self.places.len() {
            return None;
        }
        let number = |places: std::ops::Range<usize>| {
            let mut number = 0u64;
            for i in places {
                let place = &self.places[i];
                let digit = match text.get(i) {
                    Some(byte) => place.digits[usize::from(*byte)],
                    None if place.open => 0,
                    None => NONE,
                };
                if digit == NONE {
                    return None;
                }
                number = number * place.radix() + u64::from(digit);
            }
            Some(number)
        };
        Some((number(0..self.first)?, number(self.first..self.places.len())?))
    }

    /// Appends the text of a number.
    pub fn write(&self, rank: TemplateRank, to: &mut Vec<u8>) {
        let start = to.len();
        let mut end = start + self.places.len();
        to.resize(end, 0);
        for (places, number) in [(self.first..self.places.len(), rank.1), (0..self.first, rank.0)] {
            let mut rest = number;
            for i in places.rev() {
                let place = &self.places[i];
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
        }
        to.truncate(end);
    }

    /// Bytes on the heap.
    pub fn heap_bytes(&self) -> usize {
        self.places.len() * (size_of::<TemplatePlace>() + size_of::<[u16; 256]>())
            + self.places.iter().map(|p| p.letters.len()).sum::<usize>()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(texts: &[String]) -> Template {
        Template::of(texts.iter().map(String::as_bytes)).expect("short enough")
    }

    /// Texts have numbers in their order, and come back from them.
    fn check(mut texts: Vec<String>, is_narrow: bool) -> Template {
        texts.sort();
        texts.dedup();
        let template = of(&texts);
        assert_eq!(template.is_narrow(), is_narrow, "{:?}", texts.first());
        let ranks: Vec<TemplateRank> = texts.iter().map(|t| template.rank(t.as_bytes()).expect("fits")).collect();
        assert!(ranks.windows(2).all(|w| w[0] < w[1]), "{ranks:?}");
        let most = template.most();
        for (text, rank) in texts.iter().zip(&ranks) {
            let mut written = b"before ".to_vec();
            template.write(*rank, &mut written);
            assert_eq!(String::from_utf8_lossy(&written), format!("before {text}"));
            assert!(rank.0 <= most.0 && rank.1 <= most.1, "{rank:?} {most:?}");
        }
        assert_eq!(Template::from_parts(template.parts()), Some(template.clone()));
        template
    }

    fn noise(i: u64) -> u64 {
        (i + 1).wrapping_mul(0x9E37_79B9_7F4A_7C15).rotate_left(31).wrapping_mul(0xBF58_476D_1CE4_E5B9)
    }

    #[test]
    fn texts_are_numbers_in_their_order() {
        let texts = ["", "A", "A1", "AB", "B", "B1x", "Ä"].map(String::from);
        let template = check(texts.to_vec(), true);
        for text in ["C", "A1xy", "ABC", "1"] {
            assert_eq!(template.rank(text.as_bytes()), None, "{text}");
        }
        let joined = template.joined(&of(&["AB-9", "AB-8"].map(String::from))).expect("there is room");
        assert!(texts.iter().map(String::as_str).chain(["AB-9", "AB-8"]).all(|t| joined.rank(t.as_bytes()).is_some()));
    }

    #[test]
    fn long_identifiers_have_two_numbers() {
        let hex = |i: u64| format!("{:016x}", noise(i));
        let just = check((0..500).map(hex).collect(), true);
        assert_eq!(just.most(), (u64::MAX, 0), "sixteen digits fit one number, and nothing more does");
        let twice = check((0..500).map(|i| hex(i) + &hex(i + 500)).collect(), false);
        assert_eq!(twice.most(), (u64::MAX, u64::MAX));
        let dashed = |i: u64| format!("{}-4{}-{}", hex(i), &hex(i + 7)[..3], hex(i + 9));
        let too_many: Vec<String> = (0..500).map(dashed).collect();
        assert_eq!(Template::of(too_many.iter().map(String::as_bytes)), None, "35 digits are too many");
        let dashed =
            |i: u64| format!("{}-{}-4{}-{}", &hex(i)[..8], &hex(i)[8..12], &hex(i + 7)[..3], &hex(i + 9)[..12]);
        check((0..500).map(dashed).collect(), false);
        // Some are shorter, some much shorter.
        check((0..500).map(|i| hex(i) + &hex(i + 500)[..i as usize % 15]).collect(), false);
        check((0..500).map(|i| (hex(i) + &hex(i + 500))[..i as usize % 28].to_string()).collect(), false);
    }

    #[test]
    fn too_many_or_too_long_texts_have_no_numbers() {
        let wide: String = (b'a'..=b'z').map(char::from).collect();
        let turned = |i: usize| (wide[i % 26..].to_string() + &wide[..i % 26]).repeat(2);
        // Told at the end, and while there are more to come.
        for count in [26, 3 * LOOKED] {
            let texts: Vec<String> = (0..count).map(turned).collect();
            let mut looked_at = 0;
            let each = texts.iter().inspect(|_| looked_at += 1);
            assert_eq!(Template::of(each.map(String::as_bytes)), None);
            assert_eq!(looked_at, count.min(LOOKED));
        }
        assert!(Template::of([wide.repeat(3).as_bytes()].into_iter()).is_none());
    }
}
