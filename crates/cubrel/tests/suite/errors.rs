//! Wrong formulas and models, with what a user reads: message, place, help.

use crate::common::worked_example;
use cubrel::{Builder, Model, Type, Value};

/// `message at `text` | help`
fn problems(e: &cubrel::Error) -> Vec<String> {
    e.problems()
        .iter()
        .map(|p| {
            let place = p.source.as_ref().map_or("", |s| s.slice(p.span));
            let help = p.help.as_deref().unwrap_or("");
            format!("{} @ {place} | {help}", p.message)
        })
        .collect()
}

fn wrong(model: &Model, query: &str) -> String {
    match model.query(query) {
        Ok(_) => panic!("nothing is wrong with {query}"),
        Err(e) => problems(&e).join("\n"),
    }
}

#[test]
fn wrong_queries_say_what_where_and_what_instead() {
    let model = worked_example().build().unwrap();
    let cases = [
        ("grid nett", "nothing is called `nett` @ nett | did you mean `net`?"),
        (
            "grid sum(booking.net) as total by route.name order by total desc",
            "nothing is called `total` @ total | what stands after `as` is a heading: write the figure here, too, or name it before `grid`, `measure total = sum(booking.net);` and show `total`",
        ),
        (
            "grid rows(booking) as \"All of them\" by route.name having \"All of them\" > 1",
            "nothing is called `All of them` @ \"All of them\" | what stands after `as` is a heading: write the figure here, too, or name it before `grid`, `measure \"All of them\" = rows(booking);` and show `\"All of them\"`",
        ),
        ("grid sum(booking.nt)", "table `booking` has no column `nt` @ booking.nt | did you mean `booking.net`?"),
        ("grid sum(bookin.net)", "there is no table `bookin` @ bookin | did you mean `booking`?"),
        ("grid net by rout.name", "there is no table `rout` @ rout | did you mean `route`?"),
        ("grid net by region", "`region` cannot be an axis @ region | write the table, too: `route.region`"),
        (
            "grid booking.net",
            "booking.net stands outside an aggregate, and there is no current row to take it from @ booking.net | say which value is meant: `sum(booking.net)`, or `single(booking.net)`",
        ),
        (
            "grid route.name",
            "route.name stands outside an aggregate, and there is no current row to take it from @ route.name | say which value is meant: `single(route.name)`, or `count(distinct route.name)`",
        ),
        (
            "grid sum(net)",
            "a measure inside an aggregate needs to know what to go through @ net | name it without the aggregate around it, or say what to go through: `avg(measure per table)`",
        ),
        (
            "grid sum(sum(booking.net))",
            "an aggregate inside an aggregate needs to know what to go through @ sum(booking.net) | name it without the aggregate around it, or say what to go through: `avg(measure per table)`",
        ),
        (
            "grid sum(1)",
            "this `sum` names no column, so there are no rows to go through @ sum(1) | count rows with `rows(table)`, or say what to go through with `per`",
        ),
        (
            "grid net +",
            "expected a value, found the end @  | a column, a measure, a number, a text or a function can stand here",
        ),
        ("grid (net", "expected `)` to close this bracket, found the end @  | write `)` here"),
        (
            "grid net where route.region = 'North",
            "this text is not closed @ 'North | close it with `'`; a `'` inside is written twice",
        ),
        (
            "grid net where route.region == 'North'",
            "expected a value, found `=` @ = | a column, a measure, a number, a text or a function can stand here",
        ),
        ("grid net where route.region != 'North'", "unexpected character `!` @ ! | not equal is written `<>`"),
        (
            "grid net where [region = 1",
            "unexpected character `[` @ [ | names with other characters than letters, digits and `_` stand in double quotes",
        ),
        (
            "grid net where route.region = null",
            "a comparison with null is never true @ route.region = null | write `x is null` or `x is not null`",
        ),
        (
            "grid net where route.region = 3",
            "text and int cannot be compared @ route.region = 3 | turn the text into int with `cast(x as int)`",
        ),
        (
            "grid net where booking.net = '3'",
            "int and text cannot be compared @ booking.net = '3' | numbers stand without quotes",
        ),
        (
            "grid net where 1 = 1",
            "this condition names no column, so it filters nothing @ 1 = 1 | name a column, or put the condition around the value with `if(condition, value)`",
        ),
        (
            "grid net where booking.net",
            "expected something true or false, this is int @ booking.net | compare it: `x > 0`, `x is not null`",
        ),
        (
            "grid net where booking.net in ()",
            "`in` with an empty list is never true @ booking.net in () | name at least one value",
        ),
        (
            "grid if(net > 1, 'a', 2)",
            "the results of a `case` have one type: this is int, before it text @ 2 | turn one of them with `cast(x as …)`",
        ),
        ("grid 'a' + 1", "`+` needs numbers, this is text @ 'a' | texts are joined with `||`"),
        ("grid date '2026-02-30'", "`2026-02-30` is not a date @ '2026-02-30' | write `date '2026-03-01'`"),
        (
            "grid round(net, 1, 2)",
            "`round` takes 1 to 2 arguments, not 3 @ round(net, 1, 2) | round(x: number [, digits: int]) -> as x",
        ),
        (
            "grid round('x')",
            "`round` needs a number here, this is text @ 'x' | round(x: number [, digits: int]) -> as x",
        ),
        (
            "grid percentile(booking.net, 0.9) as x",
            "there is no function `percentile` @ percentile | did you mean `percentile_cont`?",
        ),
        (
            "grid net so_far(year) as x",
            "unexpected `so_far` @ so_far | other filters stand in brackets behind `given`: `… given (so_far(year))`",
        ),
        (
            "grid net over (net) as x",
            "unexpected `over` @ over | other filters stand in brackets behind `given`: `… given (shift(-1 year))`",
        ),
        (
            "grid (net where booking.net > 1) as x",
            "expected `)` to close this bracket, found `where` @ where | other filters stand in brackets behind `given`: `… given (table.column = 'value')`",
        ),
        ("grid ruond(net)", "there is no function `ruond` @ ruond | did you mean `round`?"),
        (
            "grid cast(net as number)",
            "`number` is not a type @ number | the types are int, decimal(p,s), float, text, bool, date, timestamp",
        ),
        (
            "grid cast(date '2026-01-01' as int)",
            "date cannot be turned into int @ cast(date '2026-01-01' as int) | turn it into text first, or take a part of it",
        ),
        (
            "grid sum(route.name)",
            "numbers are needed here, this is text @ route.name | count texts with `count(x)`, or turn them into numbers with `cast`",
        ),
        ("grid first(booking.net)", "`first` needs an order @ first(booking.net) | write `first(x order by y)`"),
        (
            "grid sum(booking.net order by booking.net)",
            "the order of rows does not matter to `sum` @ sum(booking.net order by booking.net) | leave the `order by` out",
        ),
        (
            "grid percentile_cont(booking.net, 2)",
            "the second argument has to be a literal @ 2 | a number from 0 to 1 such as `0.9`",
        ),
        ("grid rows(net)", "there is no table `net` @ net | for the column write the table, too: `booking.net`"),
        (
            "grid max(net per nothing)",
            "`nothing` is neither a table nor a hierarchy @ nothing | `per` is followed by a table or by columns, written `table.column`",
        ),
        (
            "grid rank(net)",
            "`rank` needs a figure and the column to rank @ rank(net) | write `rank(measure per table.column)`, with `asc` to begin at the smallest",
        ),
        ("grid net given (without rout)", "there is no table `rout` @ rout | did you mean `route`?"),
        (
            "grid net via booking.net",
            "no relationship starts at booking.net @ booking.net | `via` names the many-side columns of a relationship in the model",
        ),
        (
            "grid net by year(booking.sailed_on)",
            "unexpected `(`: lines and columns of a grid are columns of tables, not formulas @ ( | what is computed for each row is a \
             calculated column: `[table.TABLE.column.NAME]` in the model, with a `formula`",
        ),
        (
            "grid net by route.region split by booking.net / 10",
            "unexpected `/`: lines and columns of a grid are columns of tables, not formulas @ / | what is computed for each row is a \
             calculated column: `[table.TABLE.column.NAME]` in the model, with a `formula`",
        ),
        ("grid net where net > 1 )", "unexpected `)` @ ) | this bracket was never opened"),
        ("grid net by route.region)", "unexpected `)` @ ) | this bracket was never opened"),
        ("grid net by route.region; split by route.name", "unexpected `;` @ ; | only `let` parts end with `;`"),
        (
            "grid net given (without route) given (without all)",
            "unexpected `given` @ given | after the items a query has, in this order: by, split, where, having, order, limit, totals, with",
        ),
        ("grid net having net", "`having` is true or false, this is int @ net | compare it: `having measure > 1000`"),
        (
            "grid net where net > 1 by route.name",
            "`by` stands too late @ by | the order of the clauses is by, split, where, having, order, limit, totals, with",
        ),
        (
            "grid net by route.name split by route.name",
            "route.name stands on both axes @ route.name | leave it on one of them",
        ),
        ("grid net limit x", "expected a number of lines, found `x` @ x | write `limit 10`"),
        (
            "grid net by route.name limit 1 within route.region",
            "route.region is not one of the rows @ route.region | `within` names columns of `by`",
        ),
        ("grid $x", "`$x` has no value @ $x | give `x` a value with the query"),
        (
            "measure net = 1; grid net",
            "there is already a measure `net` @ net | give the measure of this query another name",
        ),
        ("gird net", "a query begins with `grid` or `records`, found `gird` @ gird | did you mean `grid`?"),
        (
            "",
            "a query begins with `grid` or `records`, found the end @  | write what it shows, and by what: `grid measure by table.column`",
        ),
        (
            "grid 12abc",
            "`12abc` is neither a number nor a name @ 12abc | a name starts with a letter; quote it with `\"` if it does not",
        ),
        ("grid sum", "`sum` needs brackets @ sum | write `sum(…)`; if it is a name, quote it: \"sum\""),
        ("grid net /* x", "this comment is not closed @ /* x | close it with `*/`"),
    ];
    let mut different = Vec::new();
    for (query, expected) in cases {
        let found = wrong(&model, query);
        if found != expected {
            different.push(format!("{query}\n  expected {expected}\n  found    {found}"));
        }
    }
    assert!(different.is_empty(), "{}", different.join("\n"));
}

#[test]
fn one_text_with_several_problems_reports_them_all() {
    let model = worked_example().build().unwrap();
    let found = wrong(&model, "grid nett, sum(booking.nt) by route.nme where route.regin = 1");
    assert_eq!(found.lines().count(), 4, "{found}");
}

/// What cannot be computed says for which row or in which cell.
#[test]
fn errors_of_a_run_name_the_row_or_the_cell() {
    let model = worked_example().measure("named", "cast(max(route.name) as int)").build().unwrap();
    let run = |text: &str| {
        let query = model.query(text).unwrap_or_else(|e| panic!("{text}: {e}"));
        first_problem(&query.run().expect_err(text))
    };
    let cases = [
        // Rows, by what is looked at in them.
        ("grid sum(cast(booking.route as int))", "where booking.route = 'r1': `r1` cannot be turned into int"),
        (
            "grid sum(cast(booking.route || route.name as int))",
            "where booking.route = 'r1' and route.name = 'Ness–Holm': `r1Ness–Holm` cannot be turned into int",
        ),
        (
            "grid net where cast(route.region as int) > 1",
            "where route.region = 'North': `North` cannot be turned into int",
        ),
        (
            "grid net given (cast(route.region as int) > 1)",
            "where route.region = 'North': `North` cannot be turned into int",
        ),
        // Cells, by the axes and whatever else they stand at.
        ("grid named", "`Ness–Holm` cannot be turned into int"),
        ("grid named by route.region", "at route.region = 'North': `Ness–Holm` cannot be turned into int"),
        (
            "grid named by route.region split by route.id",
            "at route.region = 'North' and route.id = 'r1': `Ness–Holm` cannot be turned into int",
        ),
        (
            "grid sum(named per route.name) by route.region",
            "at route.region = 'North' and route.name = 'Ness–Holm': `Ness–Holm` cannot be turned into int",
        ),
        (
            "grid named given (without route.region) by route.region, route.id",
            "at route.id = 'r1': `Ness–Holm` cannot be turned into int",
        ),
        ("records booking.net, cast(booking.route as int)", "row 1 of booking: `r1` cannot be turned into int"),
        ("grid sum(named per route)", "where route.name = 'Ness–Holm': `Ness–Holm` cannot be turned into int"),
    ];
    for (text, expected) in cases {
        let found = run(text);
        assert_eq!(found, format!("{expected}: use `try_cast` to get null instead"), "{text}");
    }
    let column = worked_example().column("booking", "x", "cast(route.region as int)");
    assert!(build_problems(column)[0].starts_with("row 1 of booking: `North` cannot be turned into int"));
    let inside = worked_example().column("route", "x", "sum(cast(booking.route as int))");
    assert!(build_problems(inside)[0].starts_with("where booking.route = 'r1': `r1` cannot be turned into int"));
}

fn first_problem(e: &cubrel::Error) -> String {
    e.problems().first().map_or_else(|| e.to_string(), |p| p.message.clone())
}

fn build_problems(builder: Builder) -> Vec<String> {
    match builder.build() {
        Ok(_) => panic!("nothing is wrong with this model"),
        Err(e) => problems(&e),
    }
}

#[test]
fn wrong_models_are_refused_with_every_reason() {
    let cycle = worked_example()
        .measure("a", "b + 1")
        .measure("b", "a * 2")
        .column("route", "p", "q + 1")
        .column("route", "q", "p");
    assert_eq!(
        build_problems(cycle),
        [
            "these formulas need each other: route.p → route.q → route.p @ q + 1 | write one of them without the others",
            "these formulas need each other: a → b → a @ b + 1 | write one of them without the others",
        ]
    );
    let names = worked_example().measure("route", "1").relationship("booking.rout", "route.id");
    assert_eq!(
        build_problems(names),
        [
            "`route` is also the table at table.route @  | give the measure another name",
            "table `booking` has no column `rout` @  | did you mean `route`?",
        ]
    );
    let two_ways = worked_example().relationship("booking.route", "route.name");
    assert!(
        build_problems(two_ways)[0]
            .starts_with("two ways lead from `booking` to `route`: booking.route; booking.route")
    );
    let ambiguous = worked_example().column("booking", "twice", "net * 2");
    assert_eq!(
        build_problems(ambiguous),
        [
            "`net` is both a column of this table and a measure @ net | write `booking.net` for the column, or rename one of them"
        ]
    );
    let types = worked_example().relationship("booking.net", "route.name");
    assert!(build_problems(types)[1].starts_with("booking.net is int and route.name is text"));
}

#[test]
fn keys_that_are_not_unique_are_shown() {
    let row = |id: i64| vec![Value::Int(id)];
    let model = Model::builder()
        .rows("many", &[("k", Type::Int)], &[row(1), row(2)])
        .rows("one", &[("k", Type::Int)], &[row(1), row(1), row(2), row(2), row(2)])
        .relationship("many.k", "one.k");
    assert_eq!(
        build_problems(model),
        [
            "one.k is not unique, 3 duplicate keys: `1` in 2 rows, `2` in 3 rows @  | each key may stand in one row only: mend the source, or filter with `where`"
        ]
    );
}

#[test]
fn a_failed_computation_names_formula_and_row_and_counts_only_where_it_is_taken() {
    let failing = worked_example().column("booking", "n", "cast(booking.route as int)");
    assert_eq!(
        build_problems(failing),
        [
            "row 1 of booking: `r1` cannot be turned into int: use `try_cast` to get null instead @ cast(booking.route as int) | "
        ]
    );
    let guarded = worked_example()
        .column("booking", "n", "if(starts_with(booking.route, 'x'), cast(booking.route as int), 0)")
        .column("booking", "m", "booking.net > 100 and cast(booking.route as int) > 1")
        .column("booking", "k", "coalesce(booking.net, cast(booking.route as int))");
    assert!(guarded.build().is_ok());
    let too_large = worked_example().column("booking", "n", "booking.net * 9000000000000000000");
    assert!(build_problems(too_large)[0].starts_with("booking.n in row 1: 90000000000000000000 does not fit a column"));
}

#[test]
fn deep_nesting_and_odd_texts_are_answered() {
    let model = worked_example().build().unwrap();
    let deep = format!("grid {}net{}", "(".repeat(5000), ")".repeat(5000));
    assert!(wrong(&model, &deep).contains("nested more than"));
    let nots = format!("grid net where {} route.region = 'x'", "not ".repeat(5000));
    assert!(model.query(&nots).is_ok());
    for odd in [
        "grid ;;;",
        "grid net by",
        "grid net,,net",
        "\u{0}",
        "grid 'é",
        "grid \"",
        "grid net by ü.ü",
        "grid .5.",
        "grid -",
        "grid net given (",
        "grid net given ()",
        "grid count(distinct)",
        "grid case end",
        "grid let x = 1; x",
    ] {
        // Whatever the answer, it is one.
        let _ = model.query(odd);
    }
}
