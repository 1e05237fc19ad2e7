//! Things in an order in which each comes after what it needs, and cycles of those that need each other.

/// Something that is needed, and why.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Need<W> {
    /// Its number.
    pub of: usize,
    /// Why.
    pub why: W,
}

/// Things by their numbers.
#[derive(Debug)]
pub struct Ordered<W> {
    /// All of them, each after what it needs; only those in a cycle stand before something that they need.
    pub order: Vec<usize>,
    /// Cycles, each as a way from a thing back to itself.
    pub cycles: Vec<(usize, Vec<Need<W>>)>,
}

/// How far a thing is.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Mark {
    New,
    Open,
    Done,
}

/// A thing on the way from the first one.
struct Stop<W> {
    /// As it was needed; the first one was not.
    thing: usize,
    why: Option<W>,
    looked_at: usize,
}

/// Orders things by what each needs, depth first; where nothing is needed, they stay in their order. It goes down without
/// recursion, because rows of things that need the next can be long.
pub fn ordered<W: Copy>(needs: &[Vec<Need<W>>]) -> Ordered<W> {
    let mut found = Ordered { order: Vec::with_capacity(needs.len()), cycles: Vec::new() };
    let mut marks = vec![Mark::New; needs.len()];
    for start in 0..needs.len() {
        if marks[start] == Mark::New {
            visit(start, needs, &mut marks, &mut found);
        }
    }
    found
}

fn visit<W: Copy>(start: usize, needs: &[Vec<Need<W>>], marks: &mut [Mark], found: &mut Ordered<W>) {
    marks[start] = Mark::Open;
    let mut path = vec![Stop { thing: start, why: None, looked_at: 0 }];
    while let Some(stop) = path.last_mut() {
        let Some(need) = needs[stop.thing].get(stop.looked_at) else {
            marks[stop.thing] = Mark::Done;
            found.order.push(stop.thing);
            path.pop();
            continue;
        };
        stop.looked_at += 1;
        match marks[need.of] {
            Mark::Done => {}
            Mark::Open => found.cycles.push((need.of, cycle(&path, *need))),
            Mark::New => {
                marks[need.of] = Mark::Open;
                path.push(Stop { thing: need.of, why: Some(need.why), looked_at: 0 });
            }
        }
    }
}

/// The way from a thing that stands on the path to the path's end, and back to the thing.
fn cycle<W: Copy>(path: &[Stop<W>], closing: Need<W>) -> Vec<Need<W>> {
    let inside = path.iter().skip_while(|stop| stop.thing != closing.of).skip(1);
    let way = inside.filter_map(|stop| Some(Need { of: stop.thing, why: stop.why? }));
    way.chain([closing]).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Graphs of seven things, with those needs that the bits of a number say.
    fn graphs() -> impl Iterator<Item = Vec<Vec<Need<u64>>>> {
        let mixed =
            |seed: u64| seed.wrapping_mul(0x9E37_79B9_7F4A_7C15).rotate_left(23).wrapping_mul(0xD6E8_FEB8_6659_FD93);
        (0..2000u64).map(move |seed| {
            let bits = mixed(seed) & mixed(seed + 7777) & mixed(seed + 99);
            let needed = |thing: usize| (0..7).filter(move |other| bits >> (thing * 7 + other) & 1 == 1);
            let why = |thing: usize, of: usize| Need { of, why: (thing * 7 + of) as u64 };
            (0..7).map(|thing| needed(thing).map(|of| why(thing, of)).collect()).collect()
        })
    }

    /// Whether a thing can be reached from what it needs.
    fn is_in_cycle(needs: &[Vec<Need<u64>>], thing: usize) -> bool {
        let (mut seen, mut next) = (vec![false; needs.len()], vec![thing]);
        while let Some(at) = next.pop() {
            for need in needs[at].iter().filter(|need| !std::mem::replace(&mut seen[need.of], true)) {
                next.push(need.of);
            }
        }
        seen[thing]
    }

    #[test]
    fn things_stand_behind_what_they_need_and_cycles_are_told() {
        let (mut without, mut with) = (0, 0);
        for needs in graphs() {
            let Ordered { order, cycles } = ordered(&needs);
            let place = |thing: usize| order.iter().position(|t| *t == thing).unwrap();
            assert_eq!(order.len(), 7);
            for (thing, all) in needs.iter().enumerate().filter(|(thing, _)| !is_in_cycle(&needs, *thing)) {
                assert!(all.iter().all(|need| place(need.of) < place(thing)), "{needs:?}: {order:?}");
            }
            for (start, way) in &cycles {
                let mut at = *start;
                for need in way {
                    assert!(needs[at].contains(need) && need.why == (at * 7 + need.of) as u64, "{needs:?}: {way:?}");
                    at = need.of;
                }
                assert_eq!(at, *start, "{needs:?}: {way:?}");
            }
            assert_eq!(cycles.is_empty(), !(0..7).any(|thing| is_in_cycle(&needs, thing)), "{needs:?}");
            *(if cycles.is_empty() { &mut without } else { &mut with }) += 1;
        }
        assert!(without > 100 && with > 100, "{without} {with}");
    }

    #[test]
    fn where_nothing_is_needed_things_stay_in_their_order() {
        assert_eq!(ordered::<()>(&vec![Vec::new(); 4]).order, [0, 1, 2, 3]);
    }

    #[test]
    fn long_rows_need_no_stack() {
        let row: Vec<Vec<Need<()>>> = (1..200_000).map(|of| vec![Need { of, why: () }]).chain([Vec::new()]).collect();
        assert_eq!(ordered(&row).order.first(), Some(&199_999));
    }
}
