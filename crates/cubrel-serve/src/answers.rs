//! Answers that were given before, as long as their bytes fit.

use std::collections::{BTreeMap, HashMap};
use std::sync::{Arc, Mutex, PoisonError};

use crate::people::SeenAs;

/// What was asked: the same again has the same answer.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Asked {
    /// The model, by name.
    pub model: String,
    /// Its version.
    pub version: u64,
    /// The day that `today()` is.
    pub day: i32,
    /// Who asks, as far as it matters.
    pub who: SeenAs,
    /// The text.
    pub text: String,
    /// Parameters, written so that equal ones are equal.
    pub parameters: String,
    /// The form of the answer.
    pub form: &'static str,
}

impl Asked {
    fn bytes(&self) -> u64 {
        (size_of::<Asked>() + self.model.len() + self.text.len() + self.parameters.len()) as u64
    }
}

/// An answer in one form.
pub type Body = Arc<[u8]>;

#[derive(Debug, Default)]
struct KeptAnswers {
    by_question: HashMap<Arc<Asked>, (Body, u64)>,
    /// Questions by when they were last asked.
    by_use: BTreeMap<u64, Arc<Asked>>,
    clock: u64,
    bytes: u64,
}

/// Answers by question; of too many, those go that nobody has asked for longest.
#[derive(Debug)]
pub struct Answers {
    room: u64,
    kept: Mutex<KeptAnswers>,
}

impl Answers {
    /// With room for so many bytes.
    pub fn new(room: u64) -> Answers {
        Answers { room, kept: Mutex::default() }
    }

    /// Bytes that are kept.
    pub fn bytes(&self) -> u64 {
        self.kept.lock().unwrap_or_else(PoisonError::into_inner).bytes
    }

    /// The answer that was given before.
    pub fn get(&self, asked: &Asked) -> Option<Body> {
        let mut kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
        let kept = &mut *kept;
        kept.clock += 1;
        let now = kept.clock;
        let (body, used) = kept.by_question.get_mut(asked)?;
        let question = kept.by_use.remove(used)?;
        *used = now;
        kept.by_use.insert(now, question);
        Some(body.clone())
    }

    /// Keeps an answer; one that would take more than a quarter of all room is not kept.
    pub fn keep(&self, asked: Asked, body: Body) {
        let bytes = asked.bytes() + body.len() as u64;
        if bytes > self.room / 4 {
            return;
        }
        let mut kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
        let kept = &mut *kept;
        kept.clock += 1;
        let question = Arc::new(asked);
        if let Some((old, used)) = kept.by_question.insert(question.clone(), (body, kept.clock)) {
            kept.by_use.remove(&used);
            kept.bytes -= question.bytes() + old.len() as u64;
        }
        kept.by_use.insert(kept.clock, question);
        kept.bytes += bytes;
        while kept.bytes > self.room {
            let Some((_, oldest)) = kept.by_use.pop_first() else { break };
            if let Some((body, _)) = kept.by_question.remove(&oldest) {
                kept.bytes -= oldest.bytes() + body.len() as u64;
            }
        }
    }

    /// Forgets all answers of older versions of a model.
    pub fn only_of(&self, model: &str, version: u64) {
        let mut kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
        let kept = &mut *kept;
        let old: Vec<u64> = kept
            .by_use
            .iter()
            .filter(|(_, asked)| asked.model == model && asked.version != version)
            .map(|(used, _)| *used)
            .collect();
        for used in old {
            let Some(asked) = kept.by_use.remove(&used) else { continue };
            if let Some((body, _)) = kept.by_question.remove(&asked) {
                kept.bytes -= asked.bytes() + body.len() as u64;
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn asked(text: &str, version: u64) -> Asked {
        let who = SeenAs { roles: None, user: None };
        let text = text.to_string();
        Asked { model: "m".into(), version, day: 1, who, text, parameters: String::new(), form: "json" }
    }

    fn body(bytes: usize) -> Body {
        vec![b'x'; bytes].into()
    }

    #[test]
    fn what_is_not_asked_for_goes_first_and_the_bytes_add_up() {
        let each = asked("a", 1).bytes() + 1000;
        let answers = Answers::new(4 * each);
        for text in ["a", "b", "c", "d"] {
            answers.keep(asked(text, 1), body(1000));
        }
        assert_eq!(answers.bytes(), 4 * each);
        assert!(answers.get(&asked("a", 1)).is_some());
        answers.keep(asked("e", 1), body(1000));
        assert!(answers.get(&asked("b", 1)).is_none(), "nobody has asked for it longest");
        assert!(answers.get(&asked("a", 1)).is_some());
        answers.keep(asked("a", 1), body(10));
        assert_eq!(answers.get(&asked("a", 1)).unwrap().len(), 10);
        assert_eq!(answers.bytes(), 4 * each - 990);
        answers.keep(asked("f", 1), body(4 * each as usize));
        assert!(answers.get(&asked("f", 1)).is_none(), "too large for all others");
        answers.only_of("m", 2);
        assert_eq!(answers.bytes(), 0);
        assert!(answers.get(&asked("a", 1)).is_none());
    }

    #[test]
    fn who_asks_matters() {
        let answers = Answers::new(1 << 20);
        let north = SeenAs { roles: Some(vec!["north".into()]), user: None };
        answers.keep(Asked { who: north.clone(), ..asked("a", 1) }, body(1));
        assert!(answers.get(&asked("a", 1)).is_none());
        let ann = SeenAs { user: Some("ann".into()), ..north.clone() };
        assert!(answers.get(&Asked { who: ann, ..asked("a", 1) }).is_none());
        assert!(answers.get(&Asked { who: north, ..asked("a", 1) }).is_some());
    }
}
