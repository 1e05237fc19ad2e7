//! What names say: the words of a column's name without the mark that all columns of its table begin with (`c_name`, `c_phone`),
//! endings that stand for a key, and words cut short (`custkey` for the key of customers).

use cubrel_load::loaded::LoadedColumn;

/// Words at the end of names of keys, the surest first.
pub(super) const KEY_WORDS: &[&str] =
    &["sk", "id", "uuid", "guid", "pk", "key", "fk", "code", "no", "nr", "number", "ref", "name"];
/// Those that are written together with what they are the key of, whatever that is.
const JOINED: &[&str] = &["key", "number", "code"];
/// Words in the names of tables that say what kind of table it is.
const KINDS_OF_TABLES: &[&str] = &["dim", "dimension", "fact", "facts", "tbl", "table", "lookup"];
/// Letters that a word cut short still has.
const SHORTEST: usize = 3;

/// The words of a name in small letters: parted by signs and by capitals.
pub(super) fn words(name: &str) -> Vec<String> {
    let mut words: Vec<String> = vec![String::new()];
    let mut lower = false;
    for c in name.chars() {
        if !c.is_alphanumeric() || lower && c.is_uppercase() {
            words.push(String::new());
        }
        if c.is_alphanumeric() {
            words.last_mut().into_iter().for_each(|w| w.extend(c.to_lowercase()));
        }
        lower = c.is_lowercase();
    }
    words.retain(|w| !w.is_empty());
    words
}

/// Without the endings of plurals.
pub(super) fn singular(word: &str) -> String {
    let cut = |ending: &str| word.strip_suffix(ending);
    match (cut("ies").filter(|w| w.len() > 1), cut("es").filter(|w| w.ends_with(['s', 'x', 'h'])), cut("s")) {
        (Some(stem), ..) => format!("{stem}y"),
        (None, Some(stem), _) | (None, None, Some(stem)) => stem.to_string(),
        _ => word.to_string(),
    }
}

/// The words of a table's name, each for one of its things.
pub(super) fn table_words(name: &str) -> Vec<String> {
    let all = words(name);
    let is_kind = |word: &String| KINDS_OF_TABLES.contains(&word.as_str());
    let kept: Vec<String> = all.iter().filter(|w| !is_kind(w)).map(|w| singular(w)).collect();
    if kept.is_empty() { all } else { kept }
}

/// How the columns of one table are named.
#[derive(Clone, Debug, Default)]
pub(super) struct ColumnNaming {
    /// The table's words.
    table: Vec<String>,
    /// The word that all columns begin with, when it says nothing of one of them.
    mark: Option<String>,
    /// Words of all tables, which a key's name can be written together with.
    known: Vec<String>,
}

impl ColumnNaming {
    /// How a table among others names its columns.
    pub(super) fn of(table: &str, columns: &[LoadedColumn], all_tables: &[Vec<String>]) -> ColumnNaming {
        let names: Vec<&str> = columns.iter().map(|c| c.name.as_str()).collect();
        ColumnNaming { table: table_words(table), mark: mark(&names), known: all_tables.concat() }
    }

    /// The words of a column's name that say something of it.
    pub(super) fn words(&self, column: &str) -> Vec<String> {
        let mut all = words(column);
        if all.len() > 1 && all.first() == self.mark.as_ref() {
            all.remove(0);
        }
        self.all_parted(&all)
    }

    fn all_parted(&self, words: &[String]) -> Vec<String> {
        words.iter().flat_map(|word| self.parted(word)).collect()
    }

    /// A word, and the ending that says it to be a key's, where they are written together.
    fn parted(&self, word: &str) -> Vec<String> {
        let stem = |ending: &str| word.strip_suffix(ending).filter(|stem| stem.chars().count() >= SHORTEST);
        // `id` ends many words: `paid`, `grid`, `valid`.
        let known = |stem: &&str| self.known.iter().any(|t| stands_for(stem, std::slice::from_ref(t)));
        let found = JOINED.iter().find_map(|ending| Some((stem(ending)?, *ending)));
        let found = found.or_else(|| Some((stem("id").filter(known)?, "id")));
        found.map_or_else(|| vec![word.to_string()], |(stem, ending)| vec![stem.to_string(), ending.to_string()])
    }

    /// The rank of the word for a key that a name ends in.
    pub(super) fn key_rank(&self, column: &str) -> Option<usize> {
        let words = self.words(column);
        KEY_WORDS.iter().position(|key| words.last().is_some_and(|last| last == key))
    }

    /// Whether a column is called after its own table and a key, and after nothing else.
    pub(super) fn is_own(&self, column: &str) -> bool {
        let all = self.words(column);
        let own = |word: &String| self.table.contains(&singular(word));
        all.iter().any(own) && all.iter().all(|word| own(word) || is_key_word(word))
    }

    /// How much a column's name says that it points at the key of another table: 0 for nothing, 1 when it says no more.
    pub(super) fn likeness(&self, column: &str, other: &ColumnNaming, key: &str) -> f64 {
        // What all columns of a small table begin with may be what they are of.
        let whole = self.all_parted(&words(column));
        let key_words = words(key);
        let same =
            words(column) == key_words && (key_words.len() > 1 || !key_words.iter().all(|word| is_key_word(word)));
        [self.words(column), whole].iter().map(|many| other.likeness_of(many, key, same)).fold(0.0, f64::max)
    }

    /// How much words say that they are those of something that points at this table's key; `same` where
    /// the two names are one, and not only a word for a key.
    fn likeness_of(&self, many: &[String], key: &str, same: bool) -> f64 {
        let one = self.words(key);
        let has = |word: &String| many.iter().any(|m| singular(m) == *word);
        let is_key = many.last().is_some_and(|word| is_key_word(word));
        let ends_alike = many.last().is_some() && many.last() == one.last();
        let names_something = !one.iter().all(|word| is_key_word(word));
        let is_same = same || many == one && names_something;
        let ends_so = names_something && many.ends_with(&one);
        // Words that are cut short say it only of what is called a key.
        let cut = |of: &[String]| is_key && many.iter().any(|m| !is_key_word(m) && stands_for(m, of));
        let cut_part = || self.table.iter().any(|word| cut(std::slice::from_ref(word)));
        match (self.table.iter().all(has), self.table.iter().any(has)) {
            (true, _) if ends_alike => 1.0,
            _ if is_same => 0.9,
            _ if ends_so => 0.85,
            (true, _) => 0.8,
            _ if cut(&self.table) => 0.7,
            (_, true) if ends_alike => 0.6,
            _ if ends_alike && cut_part() => 0.5,
            _ => 0.0,
        }
    }
}

fn is_key_word(word: &str) -> bool {
    KEY_WORDS.contains(&word)
}

/// The word that all of several names begin with, and all but a few of many.
fn mark(names: &[&str]) -> Option<String> {
    const OTHERS: usize = 10;
    let first = |name: &&str| words(name).first().cloned();
    let mark = names.first().and_then(first).filter(|mark| !is_key_word(mark))?;
    let marked = names.iter().filter(|name| words(name).len() > 1 && first(name).as_ref() == Some(&mark)).count();
    (marked > 1 && names.len() - marked <= names.len() / OTHERS).then_some(mark)
}

/// Whether a word is made of beginnings of words, one of each: `cust` of customer, `cdemo` of customer demographics.
fn stands_for(short: &str, words: &[String]) -> bool {
    short.chars().count() >= SHORTEST && is_made_of(short, words)
}

fn is_made_of(short: &str, words: &[String]) -> bool {
    let Some((first, others)) = words.split_first() else { return short.is_empty() };
    let shared = short.char_indices().zip(first.chars()).take_while(|((_, a), b)| a == b);
    let ends: Vec<usize> = shared.map(|((at, c), _)| at + c.len_utf8()).collect();
    ends.into_iter().rev().any(|end| is_made_of(&short[end..], others))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn naming(table: &str, names: &[&str]) -> ColumnNaming {
        let all = ["customer", "part", "customer_demographics", "supplier"].map(table_words);
        ColumnNaming { table: table_words(table), mark: mark(names), known: all.concat() }
    }

    #[test]
    fn names_are_words_with_what_they_are_keys_of() {
        let words_of = |name: &str| words(name).join(" ");
        assert_eq!(words_of("BookingRef"), "booking ref");
        assert_eq!(words_of("port_of-call (2)"), "port of call 2");
        let plurals = [("ports", "port"), ("boxes", "box"), ("routes", "route"), ("cities", "city"), ("bus", "bu")];
        plurals.iter().for_each(|(many, one)| assert_eq!(singular(many), *one));
        let plain = naming("order", &["o_orderkey", "o_total"]);
        let cases = [
            ("o_custkey", "cust key"),
            ("o_paid", "paid"),
            ("o_customerid", "customer id"),
            ("o_grid", "grid"),
            ("o_linenumber", "line number"),
            ("o", "o"),
            ("custid", "cust id"),
            ("key", "key"),
        ];
        cases.iter().for_each(|(name, expected)| assert_eq!(plain.words(name).join(" "), *expected, "{name}"));
        assert_eq!(naming("port", &["id", "name"]).words("name"), ["name"]);
        assert_eq!(table_words("dim_customers"), ["customer"]);
        assert_eq!(table_words("DIM"), ["dim"]);
    }

    #[test]
    fn what_all_columns_begin_with_is_a_mark() {
        let cases: &[(&[&str], Option<&str>)] = &[
            (&["c_custkey", "c_name"], Some("c")),
            (&["web_site_sk", "web_name", "web_tax"], Some("web")),
            (&["id", "id_port"], None),
            (&["port_id", "name"], None),
            (&["c_name"], None),
            (&["a b", "a c", "a d", "a e", "a f", "a g", "a h", "a i", "a j", "other"], Some("a")),
            (&[], None),
        ];
        cases.iter().for_each(|(names, expected)| assert_eq!(mark(names).as_deref(), *expected, "{names:?}"));
    }

    #[test]
    fn names_say_what_they_point_at() {
        let none: &[&str] = &[];
        // A column, the mark of its table, the other table with its key and mark.
        let cases = [
            ("port_id", none, "port", "id", none, 1.0),
            ("PortCode", none, "ports", "Port Code", none, 1.0),
            ("port", none, "ports", "code", none, 0.8),
            ("id", none, "port", "id", none, 0.0),
            ("fare_code", none, "fare", "fare_code", none, 1.0),
            ("fare_code", none, "classes", "fare_code", none, 0.9),
            ("fare_code", none, "classes", "fare_code", &["fare_code", "fare_name"], 0.9),
            ("call_id", none, "port_call", "id", none, 0.6),
            ("net", none, "port", "id", none, 0.0),
            ("-", none, "port", "%", none, 0.0),
            ("l_orderkey", &["l_orderkey", "l_tax"], "orders", "o_orderkey", &["o_orderkey", "o_date"], 1.0),
            ("l_suppkey", &["l_orderkey", "l_tax"], "supplier", "s_suppkey", &["s_suppkey", "s_name"], 0.9),
            ("ss_sold_date_sk", &["ss_a", "ss_b"], "date_dim", "d_date_sk", &["d_date_sk", "d_year"], 1.0),
            ("ss_cdemo_sk", &["ss_a", "ss_b"], "customer_demographics", "cd_demo_sk", &["cd_demo_sk", "cd_sex"], 0.7),
            ("ss_addr_sk", &["ss_a", "ss_b"], "customer_address", "ca_address_sk", &["ca_address_sk", "ca_x"], 0.5),
            ("ss_promo", &["ss_a", "ss_b"], "promotion", "p_promo_sk", &["p_promo_sk", "p_cost"], 0.0),
            ("city_id", none, "cities", "id", none, 1.0),
            ("SailDateKey", none, "days", "DateKey", none, 0.85),
            ("home_island_code", none, "place", "island_code", none, 0.85),
        ];
        for (column, mark_of, table, key, marked, expected) in cases {
            let found = naming("own", mark_of).likeness(column, &naming(table, marked), key);
            assert!((found - expected).abs() < 1e-9, "{column} to {table}.{key}: {found}");
        }
    }

    #[test]
    fn columns_called_after_their_own_table_are_told() {
        let item = naming("item", &["i_item_sk", "i_item_id"]);
        assert!(item.is_own("i_item_id") && !item.is_own("i_brand_id") && !item.is_own("i_id"));
        assert!(naming("web_site", &["web_site_id", "web_name"]).is_own("web_site_id"));
    }
}
