//! What must stay true of a model, what is untidy in it, and what two of them say otherwise.

use cubrel::changes::What;
use cubrel::expectations::Tested;
use cubrel::{Model, QueryOptions, Severity, Type, Value};

fn text(text: &str) -> Value {
    Value::text(text)
}

/// Two routes, four bookings: one of an unknown route, one of none.
fn builder() -> cubrel::Builder {
    let day = |n: i32| Value::Date(20_000 + n);
    let booking = [("r1", 10, 0), ("r1", 20, 1), ("r9", 5, 2), ("", 1, 2)];
    let booking = booking.map(|(route, net, on)| {
        vec![if route.is_empty() { Value::Null } else { text(route) }, Value::Int(net), day(on)]
    });
    let route = [("r1", "North"), ("r2", "South")].map(|(id, region)| vec![text(id), text(region)]);
    Model::builder()
        .rows("route", &[("id", Type::Text), ("region", Type::Text)], &route)
        .rows("booking", &[("route", Type::Text), ("net", Type::Int), ("on", Type::Date)], &booking)
        .relationship("booking.route", "route.id")
}

fn model(definitions: &str) -> Model {
    builder().definitions(definitions).build().unwrap_or_else(|e| panic!("{e}\n{definitions}"))
}

fn tested(expect: &str) -> Tested {
    let text = format!(
        "[measure.net]\nformula = 'sum(booking.net)'\n[query.saved]\ntext = 'grid net'\n[[expect]]\n{expect}\n"
    );
    model(&text).test(&QueryOptions { today: Some(20_004), ..QueryOptions::default() }).unwrap()
}

#[test]
fn expectations_hold_or_say_where_they_do_not() {
    // What is expected, its kind, and the differences as `at: expected / got`.
    let cases: &[(&str, &str, &[&str])] = &[
        ("query = 'grid net by route.region'\nrows = [['North', 30], ['', 6]]", "rows", &[]),
        ("query = 'grid net by route.region'\nrows = [['', 6], ['North', 30.0]]", "rows", &[]),
        (
            "query = 'grid net by route.region'\nrows = [['North', 31], ['', 6]]",
            "rows",
            &["{\"route.region\":\"North\"}: 31 / 30"],
        ),
        ("query = 'grid net by route.region'\nrows = [['North', 31], ['', 6]]\ntolerance = 1", "rows", &[]),
        (
            "query = 'grid net by route.region'\nrows = [['North', 30], ['South', 1]]",
            "rows",
            &["{\"route.region\":\"South\"}: \"a line\" / \"none\"", "{\"route.region\":null}: \"no line\" / \"one\""],
        ),
        ("query = 'saved'\nrows = [[36]]", "rows", &[]),
        ("query = 'saved'\nrows = [[36.5]]", "rows", &["{}: 36.5 / 36"]),
        (
            "query = 'grid net, rows(booking) as n'\nrows = [[37, 5]]",
            "rows",
            &["{\"item\":\"net\"}: 37 / 36", "{\"item\":\"n\"}: 5 / 4"],
        ),
        ("query = 'grid min(booking.on) as start'\nrows = [[2024-10-04]]", "rows", &[]),
        ("query = 'grid min(booking.on) as start'\nrows = [['2024-10-04']]", "rows", &[]),
        ("query = 'grid min(booking.net) > 3 as dear'\nrows = [[false]]", "rows", &[]),
        (
            "query = 'records booking.net order by booking.net'\nrows = [[1], [5], [11], [20]]",
            "rows",
            &["{\"booking.net\":11}: \"a line\" / \"none\"", "{\"booking.net\":10}: \"no line\" / \"one\""],
        ),
        ("query = 'grid net by route.region totals'\nrows = [['North', 30], ['', 6], ['', 36]]", "rows", &[]),
        ("query = 'grid net by route.region'\nmin_rows = 2", "min_rows", &[]),
        ("query = 'grid net by route.region'\nmin_rows = 3", "min_rows", &["{}: \"3 lines or more\" / 2"]),
        ("query = 'saved'", "query", &[]),
        ("same = ['net', 'sum(booking.net per booking)']\nby = ['route.region']", "same", &[]),
        (
            "same = ['net', 'sum(booking.net) + if(min(route.region) is null, 1, 0)']\nby = ['route.region']",
            "same",
            &["{\"route.region\":null}: 6 / 7"],
        ),
        ("same = ['net', 'net + 1', 'net']\n", "same", &["{\"formula\":\"net + 1\"}: 36 / 37"]),
        ("same = ['net', 'net + 1']\ntolerance = 2", "same", &[]),
        ("same = ['net', '30']\nwhere = \"route.region = 'North'\"", "same", &[]),
        ("unique = 'route.id'", "unique", &[]),
        ("unique = 'booking.route'", "unique", &["{\"booking.route\":\"r1\"}: 1 / 2"]),
        ("unique = ['booking.route', 'booking.net']", "unique", &[]),
        ("no_orphans = 'booking.route'", "no_orphans", &["{\"booking.route\":[\"r9\"]}: 0 / 1"]),
        ("fresh = 'booking.on'\nwithin = '2 days'", "fresh", &[]),
        (
            "fresh = 'booking.on'\nwithin = '1 day'",
            "fresh",
            &["{\"newest of\":\"booking.\\\"on\\\"\"}: \"2024-10-07 or later\" / \"2024-10-06\""],
        ),
        ("fresh = 'booking.on'\nwithin = '1 month'", "fresh", &[]),
        (
            "fresh = 'booking.on'\nwithin = '0 years'",
            "fresh",
            &["{\"newest of\":\"booking.\\\"on\\\"\"}: \"2024-10-08 or later\" / \"2024-10-06\""],
        ),
    ];
    for (expect, kind, differences) in cases {
        let tested = tested(expect);
        let [one] = tested.expectations.as_slice() else { panic!("{expect}") };
        assert_eq!(one.error, None, "{expect}");
        let found: Vec<String> = one
            .differences
            .iter()
            .map(|d| format!("{}: {} / {}", serde_json::to_string(&d.at).unwrap(), d.expected, d.got))
            .collect();
        assert_eq!((&found, one.kind), (&differences.iter().map(|d| d.to_string()).collect(), *kind), "{expect}");
        assert_eq!(
            (one.passed, tested.passed, tested.failed),
            (differences.is_empty(), usize::from(differences.is_empty()), usize::from(!differences.is_empty()))
        );
    }
}

#[test]
fn expectations_that_cannot_be_looked_at_do_not_hold_and_check_says_why() {
    let cases = [
        ("rows = [[1]]", "this expectation says nothing"),
        ("query = 'saved'\nunique = 'route.id'", "this expectation says several things: query, unique"),
        ("query = 'grid nett'", "nothing is called `nett`"),
        ("same = ['net']", "there is nothing that this could be the same as"),
        ("same = ['net', 'nett']", "nothing is called `nett`"),
        ("unique = 'route.idd'", "`route.idd` is not a column"),
        ("unique = ['route.id', 'booking.net']", "these columns are of several tables"),
        ("no_orphans = 'booking.net'", "no relationship starts at booking.net"),
        ("fresh = 'booking.on'", "nothing says how near the newest day has to be"),
        ("fresh = 'booking.on'\nwithin = 'soon'", "`soon` is no span of days"),
        ("query = 'saved'\nwithin = '3 days'", "`within` says nothing about `query`"),
        ("unique = 'route.id'\nby = ['route.id']", "`by` says nothing about `unique`"),
    ];
    for (expect, message) in cases {
        let text = format!(
            "[measure.net]\nformula = 'sum(booking.net)'\n[query.saved]\ntext = 'grid net'\n[[expect]]\n{expect}\n"
        );
        let model = model(&text);
        let check = model.check();
        let found = check.iter().find(|p| p.message.contains(message));
        let found = found.unwrap_or_else(|| panic!("{expect}: {check:?}"));
        let (_, line, _) = found.place().unwrap_or_else(|| panic!("{expect}: no place"));
        assert!(line >= 5, "{expect}: line {line}");
        if !message.contains("says nothing about")
            && !message.contains("several things")
            && !message.contains("nothing that this")
        {
            let tested = model.test(&QueryOptions::default()).unwrap();
            let error = tested.expectations[0].error.clone().unwrap_or_default();
            assert!(!tested.expectations[0].passed && error.contains(message), "{expect}: {error}");
        }
    }
    let wrong = tested("query = 'saved'\nrows = [[1, 2]]");
    assert!(
        wrong.expectations[0]
            .error
            .as_ref()
            .is_some_and(|e| e.contains("a line of `rows` has 2 values, the query gives 1"))
    );
}

#[test]
fn expectations_of_a_role_are_about_what_it_sees() {
    let text = "[role.north]\nrows.route = \"region = 'North'\"\n[[expect]]\nquery = 'grid sum(booking.net)'\nrows = [[30]]\n[[expect]]\nno_orphans = 'booking.route'\n";
    let model = model(text);
    let options = QueryOptions::default();
    assert_eq!(model.test(&options).unwrap().failed, 2);
    assert_eq!(model.as_user(&["north"], None).unwrap().test(&options).unwrap().failed, 0);
    let nobody = model.as_user::<&str>(&[], None).unwrap().test(&options).unwrap();
    assert_eq!((nobody.passed, nobody.failed), (0, 2));
}

/// The hints of a model, by name, with what they are about.
fn hints(model: &Model) -> Vec<String> {
    let hints = model.hints();
    assert!(hints.iter().all(|h| h.severity == Severity::Hint && h.help.is_some()));
    hints.iter().map(|h| format!("{}: {}", h.hint.unwrap(), h.message)).collect()
}

#[test]
fn untidiness_is_told_and_can_be_silenced() {
    let months = ["January", "March", "may"].map(|m| vec![text(m), Value::Int(0)]);
    let built = |more: &str| {
        let all = format!(
            "[measure.net]\nformula = 'sum(booking.net)'\n[measure.share]\nformula = 'net / 7'\n{more}
             [query.q]\ntext = 'grid net, share by route.region, month.name'"
        );
        builder().rows("month", &[("name", Type::Text), ("n", Type::Int)], &months).definitions(&all).build().unwrap()
    };
    let plain = hints(&built(""));
    let told = |start: &str| plain.iter().any(|h| h.starts_with(start));
    for start in [
        "shown_key: booking.route is a key",
        "no_format: share has no format",
        "no_display_order: month.name holds names of months",
        "orphans: 2 of 4 rows point at nothing over booking.route → route.id, with keys such as r9",
        "unused: nothing uses column booking.\"on\"",
        "unused: nothing uses column month.n",
    ] {
        assert!(told(start), "{start}: {plain:#?}");
    }
    assert_eq!(plain.len(), 6, "{plain:#?}");
    // Each in its own place.
    for (more, gone) in [
        ("[table.booking]\nallow = ['shown_key']", "shown_key"),
        ("[table.booking.column.route]\nhidden = true", "shown_key"),
        ("[table.month]\nallow = ['no_display_order']", "no_display_order"),
        ("[table.month.column.name]\ndisplay_order = 'n'", "no_display_order"),
        ("[model]\nallow = ['orphans']", "orphans"),
    ] {
        let left = hints(&built(more));
        assert!(!left.iter().any(|h| h.starts_with(gone)), "{more}: {left:#?}");
    }
    let all = built(&format!("[model]\nallow = {:?}", cubrel::hints::HINTS));
    assert!(hints(&all).is_empty());
}

#[test]
fn figures_that_add_up_to_nothing_and_formulas_that_stand_twice_are_told() {
    let with = |formula: &str| {
        let text = format!(
            "[model]\nallow = ['unused', 'no_format', 'shown_key', 'orphans']\n[measure.net]\nformula = 'sum(booking.net)'\n[measure.mean]\nformula = 'avg(booking.net)'\n
             [measure.ratio]\nformula = 'net / rows(booking)'\n[measure.asked]\nformula = '''{formula}'''\n"
        );
        hints(&model(&text))
    };
    for (formula, expected) in [
        ("sum(ratio per route)", Some("summed_ratio: ratios and averages are added up")),
        ("sum(mean per route.region)", Some("summed_ratio: ratios and averages are added up")),
        ("sum(net per route)", None),
        ("sum(net / 2 per route)", None),
        ("max(ratio per route)", None),
        (" net /  rows( booking ) -- again", Some("repeated_formula: this is the formula of ratio once more")),
        ("net", None),
        ("sum(10 / booking.net)", None),
        ("sum(10 / (booking.net - 1))", None),
    ] {
        let found = with(formula);
        match expected {
            Some(expected) => assert!(found.len() == 1 && found[0].starts_with(expected), "{formula}: {found:?}"),
            None => assert!(found.is_empty(), "{formula}: {found:?}"),
        }
    }
    let rows = [0, 5, 0].map(|n| vec![Value::Int(1), Value::Int(n)]);
    let text = "[model]\nallow = ['unused', 'no_format']\n[measure.m]\nformula = 'sum(t.a / t.b)'\n";
    let model =
        Model::builder().rows("t", &[("a", Type::Int), ("b", Type::Int)], &rows).definitions(text).build().unwrap();
    assert_eq!(hints(&model), ["zero_division: t.b is 0 in 2 of the rows, which this division leaves out"]);
}

#[test]
fn texts_that_differ_in_capitals_or_blanks_are_told_once() {
    let rows = |vessels: &[&str]| vessels.iter().map(|v| vec![Value::text(v), Value::text(v)]).collect::<Vec<_>>();
    let of = |vessels: &[&str], more: &str| {
        let text = format!("[model]\nallow = ['unused']\n[table.trip.column.code]\nhidden = true\n{more}");
        let columns = [("vessel", Type::Text), ("code", Type::Text)];
        hints(&Model::builder().rows("trip", &columns, &rows(vessels)).definitions(&text).build().unwrap())
    };
    let told = "alike_values: trip.vessel has values that differ in capitals or blanks alone: ";
    let copy = "[table.other]\nsame_as = 'trip'\n";
    let skua = ["MV Skua", "MV Gannet", "mv skua", "MV Skua"];
    assert_eq!(of(&skua, ""), [format!("{told}`MV Skua` and `mv skua`")]);
    assert_eq!(of(&skua, copy), [format!("{told}`MV Skua` and `mv skua`")]);
    assert!(of(&skua, "[table.trip.column.vessel]\nallow = ['alike_values']\n").is_empty());
    let many = ["A b", "a  b", "A B ", "a b", " A b", "c"];
    let found = of(&many, "");
    assert!(found[0].ends_with(", among others") && found[0].matches(" and ").count() == 3, "{found:?}");
    for different in [["Ness", "Ness-Holm", "Nés"], ["a b", "ab", "a_b"]] {
        assert!(of(&different, "").is_empty(), "{different:?}");
    }
}

#[test]
fn what_only_a_wrong_formula_uses_is_not_called_unused() {
    let folder = tempfile::tempdir().unwrap();
    std::fs::write(folder.path().join("booking.csv"), "ref,net\n1,10\n").unwrap();
    let unused = |formula: &str| {
        let measure = format!("[measure.net]\nformula = '{formula}'\n[query.q]\ntext = 'grid net'\n");
        let text = format!("[table.booking]\nsource = 'booking.csv'\n{measure}");
        std::fs::write(folder.path().join("model.toml"), text).unwrap();
        let told = hints(&Model::open(folder.path()).unwrap());
        told.into_iter().filter(|hint| hint.starts_with("unused")).count()
    };
    assert!(unused("1") > 0);
    for wrong in ["sum(booking.nett)", "sum(booking.net", "booking.net"] {
        assert_eq!(unused(wrong), 0, "{wrong}");
    }
}

#[test]
fn names_that_no_hint_has_are_problems() {
    let model = model("[model]\nallow = ['unusd']\n");
    let check = model.check();
    assert!(
        check
            .iter()
            .any(|p| p.message == "no hint is called `unusd`" && p.help.as_deref() == Some("did you mean `unused`?")),
        "{check:?}"
    );
    let model = builder().definitions("[shortlist.s]\nlist = ['booking.net', 'bookin', 'route']\n").build().unwrap();
    let check = model.check();
    assert!(check.len() == 1 && check[0].message == "nothing of this model is called `bookin`", "{check:?}");
}

#[test]
fn what_two_models_say_otherwise_is_told_key_by_key() {
    let one = "[measure.a]\nformula = '1'\nformat = '0'\n[measure.gone]\nformula = 'a'\n[lens.l.reading.r]\nformula = 'shown'\n";
    let two = "[measure.a]\nformula = '2'\nlabel = 'A'\nformat = '0'\n[measure.new]\nformula = 'a'\n[lens.l.reading.r]\nformula = 'shown'\n[table.booking.column.twice]\nformula = '2 * net'\n";
    let changes = model(one).changes(&model(two));
    let told: Vec<String> = changes
        .iter()
        .map(|c| {
            let said: Vec<String> = c.said.iter().map(|k| format!("{} {} {}", k.key, k.before, k.after)).collect();
            let mark = match c.what {
                What::Added => '+',
                What::Removed => '-',
                What::Changed => '~',
            };
            format!("{mark} {} {} {}", c.kind.name(), c.name, said.join("; ")).trim_end().to_string()
        })
        .collect();
    assert_eq!(
        told,
        [
            "~ measure a formula \"1\" \"2\"; label null \"A\"",
            "- measure gone",
            "+ column booking.twice",
            "+ measure new",
        ]
    );
    assert!(model(one).changes(&model(one)).is_empty());
}
