//! Two models side by side: which of their answers are the same.
use cubrel::model_comparison::{ModelComparison, Pair, QueryOutcome, compare_models};
use cubrel::{Model, QueryOptions, Type, Value};

/// Sailings by route; `more` are added, and the queries are those of a model file.
fn model(routes: &[(&str, i64)], queries: &[(&str, &str)]) -> Model {
    let rows: Vec<Vec<Value>> = routes.iter().map(|(r, fuel)| vec![Value::text(*r), Value::Int(*fuel)]).collect();
    let saved = queries.iter().map(|(name, text)| format!("[query.{name}]\ntext = \"{text}\"\n"));
    Model::builder()
        .rows("sailing", &[("route", Type::Text), ("fuel", Type::Int)], &rows)
        .measure("fuel", "sum(sailing.fuel)")
        .definitions(&saved.collect::<String>())
        .build()
        .unwrap()
}

fn compare_formulas(a: &Model, b: &Model) -> ModelComparison {
    compare_models(a, b, &[], &QueryOptions::default(), 1).unwrap()
}

fn answers<'a>(found: &'a ModelComparison, name: &str) -> &'a Pair {
    match &found.answers.iter().find(|q| q.name == name).unwrap().outcome {
        QueryOutcome::Answered(answers) => answers,
        QueryOutcome::Failed { .. } => panic!("{name} failed"),
    }
}

const BY_ROUTE: (&str, &str) = ("by_route", "grid fuel, rows(sailing) as n by sailing.route totals");

#[test]
fn equal_models_agree() {
    let one = model(&[("Ness", 3), ("Holm", 4)], &[BY_ROUTE]);
    let found = compare_formulas(&one, &model(&[("Holm", 4), ("Ness", 3)], &[BY_ROUTE]));
    assert!(found.agree());
    assert_eq!((answers(&found, "by_route").cells, answers(&found, "fuel").cells), (6, 1));
    assert_eq!((found.only_a.len(), found.only_b.len()), (0, 0));
}

#[test]
fn figures_and_lines_that_differ_are_counted() {
    let one = model(&[("Ness", 3), ("Holm", 4)], &[BY_ROUTE]);
    type Case = (&'static [(&'static str, i64)], usize, usize, Option<&'static str>, Option<&'static str>);
    let cases: [Case; 3] = [
        // one figure, and its total
        (&[("Ness", 5), ("Holm", 4)], 6, 2, Some("3"), Some("5")),
        // a line that only the other one has: its two figures, and both totals
        (&[("Ness", 3), ("Holm", 4), ("Skaw", 1)], 8, 4, Some("7"), Some("8")),
        // a line that only this one has
        (&[("Ness", 3)], 6, 4, Some("4"), None),
    ];
    for (rows, cells, differing, a, b) in cases {
        let found = compare_formulas(&one, &model(rows, &[BY_ROUTE]));
        let answers = answers(&found, "by_route");
        assert_eq!((answers.cells, answers.differing), (cells, differing), "{rows:?}");
        let example = answers.example.as_ref().unwrap();
        assert_eq!((example.item.as_str(), example.a.as_deref(), example.b.as_deref()), ("fuel", a, b), "{rows:?}");
        assert!(!found.agree());
    }
}

#[test]
fn the_same_name_may_say_something_else_and_lines_without_figures_are_compared() {
    let rows = [("Ness", 3), ("Holm", 4)];
    let one = model(&rows, &[("q", "records sailing.route"), ("own", "grid fuel")]);
    let found = compare_formulas(&one, &model(&rows, &[("q", "records sailing.route where sailing.fuel > 3")]));
    assert_eq!((answers(&found, "q").cells, answers(&found, "q").differing), (2, 1));
    assert_eq!(found.only_a, ["own"]);
}

#[test]
fn what_one_cannot_answer_is_told() {
    let one = model(&[("Ness", 3)], &[BY_ROUTE]);
    let other = Model::builder()
        .rows("sailing", &[("fuel", Type::Int)], &[vec![Value::Int(3)]])
        .measure("fuel", "sum(sailing.fuel)")
        .definitions("[query.by_route]\ntext = \"grid fuel by sailing.route\"\n")
        .build()
        .unwrap();
    let found = compare_formulas(&one, &other);
    let failed = found.answers.iter().find(|q| q.name == "by_route").unwrap();
    assert!(matches!(&failed.outcome, QueryOutcome::Failed { error_a: None, error_b: Some(b) } if b.contains("route")));
    assert!(!found.agree());
    let unknown = compare_models(&one, &one, &["nobody".into()], &QueryOptions::default(), 1).unwrap_err();
    assert!(unknown.to_string().contains("`nobody`"), "{unknown}");
    let limits = cubrel::Limits { cells: Some(0), ..Default::default() };
    let found = compare_models(&one, &one, &[], &QueryOptions { limits, ..QueryOptions::default() }, 1).unwrap();
    let failed = found.answers.iter().find(|q| q.name == "by_route").unwrap();
    assert!(
        matches!(&failed.outcome, QueryOutcome::Failed { error_a: Some(a), error_b: Some(_) } if a.contains("limit"))
    );
    assert!(!found.agree());
}
