//! Aggregates that need all values: joined texts, and percentiles of what has no numbers.

use std::any::Any;

use super::entries::Entries;
use super::quantiles::place_of;
use super::results::{collected, compare_order, order_values};
use super::spec::Spec;
use super::state::{At, KeptTexts, State, same};
use cubrel_formula::functions::allowed_length;
use cubrel_formula::typed::AggregateKind;
use cubrel_value::{Value, Vector};

/// A value, and what it is ordered by.
type OrderedValue = (Value, Vec<Value>);

#[derive(Debug)]
pub(super) struct Collected {
    lists: Vec<Vec<OrderedValue>>,
    texts: KeptTexts,
    spec: Spec,
}

impl Collected {
    pub(super) fn new(spec: &Spec, groups: usize) -> Collected {
        Collected { lists: vec![Vec::new(); groups], texts: KeptTexts::default(), spec: spec.clone() }
    }
}

impl State for Collected {
    fn resize(&mut self, groups: usize) {
        self.lists.resize(groups, Vec::new());
    }

    fn add_values(&mut self, entries: Entries<'_>, vectors: &[Vector]) {
        let Some((first, order)) = vectors.split_first() else { return };
        let entries = entries.one_by_one();
        for i in (0..first.len()).filter(|i| first.is_valid(*i)) {
            let entry = (first.get(i, self.spec.input), order_values(order, &self.spec.order, i));
            let times = entries.weight(i);
            if self.texts.take(&entry.0, times) {
                self.lists[entries.group(i)].extend(std::iter::repeat_n(entry, times as usize));
            }
        }
    }

    fn merge(&mut self, other: Box<dyn State>, at: At<'_>) {
        let Some(Collected { lists, texts, .. }) = same(other) else { return };
        self.texts.join(texts);
        at.each(lists, |group, list| self.lists[group].extend(list));
    }

    fn finish(self: Box<Self>, _: &[bool]) -> Result<Vector, String> {
        self.texts.check()?;
        let values = self.lists.into_iter().map(|list| summarized(&self.spec, list)).collect::<Result<Vec<_>, _>>()?;
        Ok(collected(values.into_iter(), self.spec.ty))
    }

    fn into_any(self: Box<Self>) -> Box<dyn Any> {
        self
    }
}

/// Joined texts, or one of the values of a group in their order.
fn summarized(spec: &Spec, mut list: Vec<OrderedValue>) -> Result<Value, String> {
    if list.is_empty() {
        return Ok(Value::Null);
    }
    if spec.kind != AggregateKind::StringAgg {
        list.sort_by(|a, b| a.0.total_cmp(&b.0));
        let place = place_of(spec, list.len() as u64).0;
        return Ok(list[place as usize].0.clone());
    }
    // Without an order the texts are sorted, so that the result is the same every time.
    list.sort_by(|a, b| compare_order(&a.1, &b.1, &spec.order).then_with(|| a.0.total_cmp(&b.0)));
    let separator = spec.constant.as_ref().and_then(Value::as_text).unwrap_or("");
    let texts: Vec<&str> = list.iter().filter_map(|(v, _)| v.as_text()).collect();
    let bytes = texts.iter().map(|t| t.len() + separator.len()).sum::<usize>();
    allowed_length(bytes.saturating_sub(separator.len()))?;
    Ok(Value::text(texts.join(separator)))
}
