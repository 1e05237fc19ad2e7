//! Arrow Flight SQL, as clients of other people see it: statements, parameters, lists, who may see what.

use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::types::Int64Type;
use arrow_array::{ArrayRef, Int64Array, RecordBatch, StringArray};
use arrow_flight::error::FlightError;
use arrow_flight::sql::client::FlightSqlServiceClient;
use arrow_flight::sql::{
    CommandGetDbSchemas, CommandGetExportedKeys, CommandGetImportedKeys, CommandGetPrimaryKeys, CommandGetTables,
    CommandGetXdbcTypeInfo, SqlInfo,
};
use arrow_flight::{Action, CancelFlightInfoRequest, CancelFlightInfoResult, CancelStatus, FlightInfo};
use arrow_ipc::reader::StreamReader;
use arrow_schema::Schema;
use futures_util::TryStreamExt;
use prost::Message;
use tonic::transport::{Channel, Endpoint};

use crate::common::{Running, bookings, folder, serving, serving_in};

type Client = FlightSqlServiceClient<Channel>;

impl Running {
    fn client(&self, token: Option<&str>) -> Client {
        let url = self.flight.replacen("grpc://", "http://", 1);
        let channel = self.runtime.block_on(Endpoint::from_shared(url).unwrap().connect()).unwrap();
        let mut client = FlightSqlServiceClient::new(channel);
        token.into_iter().for_each(|token| client.set_token(token.to_string()));
        client
    }

    /// What was promised, as it is given.
    fn fetched(&self, client: &mut Client, info: FlightInfo) -> Result<Vec<RecordBatch>, FlightError> {
        let schema = info.clone().try_decode_schema().unwrap();
        let ticket = info.endpoint[0].ticket.clone().unwrap();
        let batches: Vec<RecordBatch> =
            self.runtime.block_on(async { client.do_get(ticket).await?.try_collect().await })?;
        batches.iter().for_each(|batch| assert_eq!(*batch.schema(), schema, "another schema than was promised"));
        Ok(batches)
    }

    fn statement(&self, client: &mut Client, text: &str) -> Result<Vec<RecordBatch>, FlightError> {
        let info = self.runtime.block_on(client.execute(text.to_string(), None))?;
        self.fetched(client, info)
    }

    /// What is wrong with a statement.
    fn refused(&self, client: &mut Client, text: &str) -> String {
        self.statement(client, text).unwrap_err().to_string()
    }

    /// The same over HTTP.
    fn over_http(&self, text: &str, token: Option<&str>) -> Vec<RecordBatch> {
        let reply = self.ask_in("application/vnd.apache.arrow.stream", text, token);
        assert_eq!(reply.status, 200, "{}", reply.text());
        StreamReader::try_new(reply.body.as_slice(), None).unwrap().collect::<Result<_, _>>().unwrap()
    }
}

/// The texts of a column.
fn texts(batches: &[RecordBatch], name: &str) -> Vec<String> {
    let of = |batch: &RecordBatch| {
        let column = batch.column_by_name(name).unwrap_or_else(|| panic!("{name}")).clone();
        column.as_string::<i32>().iter().map(|text| text.unwrap_or("(null)").to_string()).collect::<Vec<_>>()
    };
    batches.iter().flat_map(of).collect()
}

fn row(columns: Vec<(&str, ArrayRef)>) -> RecordBatch {
    RecordBatch::try_from_iter(columns).unwrap()
}

#[test]
fn statements_are_queries_and_saved_ones_by_their_names() {
    let server = serving("");
    let mut client = server.client(None);
    for text in [
        "grid net by port.region",
        "by_region",
        "grid net, rows(booking) as n by port.region, port.port split by booking.cost order by rows(booking) desc limit 3 others totals",
        "grid net where port.region = 'nowhere'",
        "records booking.day, booking.net where booking.cost = 3 order by booking.day",
    ] {
        assert_eq!(server.statement(&mut client, text).unwrap(), server.over_http(text, None), "{text}");
    }
    let info = server.runtime.block_on(client.execute("grid net by port.region".into(), None)).unwrap();
    let field = info.try_decode_schema().unwrap().field_with_name("net").unwrap().clone();
    assert_eq!(field.metadata().get("format").map(String::as_str), Some("#,##0.0"));
}

#[test]
fn what_is_no_question_is_told_with_its_place_or_an_example_of_this_model() {
    let server = serving("");
    let mut client = server.client(None);
    let wrong = server.refused(&mut client, "grid net\nby port.regoin");
    assert!(wrong.contains("line 2, column") && wrong.contains("region"), "{wrong}");
    for sql in ["select * from port", "SELECT 1", "  with x as (select 1) select * from x", "show tables"] {
        let told = server.refused(&mut client, sql);
        assert!(
            told.contains("SQL") && told.contains("`grid net by port.region`") && told.contains("by_region"),
            "{told}"
        );
    }
    assert!(!server.refused(&mut client, "selection").contains("SQL"));
    let update = server.runtime.block_on(client.execute_update("drop port".into(), None)).unwrap_err();
    assert!(update.to_string().contains("only read"), "{update}");
    let stale = arrow_flight::Ticket { ticket: vec![1, 2, 3].into() };
    assert!(server.runtime.block_on(client.do_get(stale)).is_err());
}

#[test]
fn whole_numbers_beyond_64_bits_are_told_before_any_row() {
    let server = serving("");
    let mut client = server.client(None);
    let text = "grid sum(9223372036854775807) as x";
    let of_one = server.statement(&mut client, "grid max(booking.cost) as x").unwrap();
    assert_eq!(of_one[0].column(0).as_primitive::<Int64Type>().value(0), 8);
    match server.statement(&mut client, &format!("{text} by rows(booking)")) {
        Ok(_) => panic!("no such axis"),
        Err(e) => assert!(!e.to_string().is_empty()),
    }
    let wide = server.refused(&mut client, "grid sum(booking.cost * 9223372036854775807 / 9223372036854775807) as x, sum(booking.cost) * 9223372036854775807 as y");
    assert!(wide.contains("64 bits"), "{wide}");
}

#[test]
fn prepared_statements_take_parameters_by_name_by_place_as_lists_and_as_texts() {
    let server = serving("");
    let mut client = server.client(None);
    let text = "grid net by port.port where booking.cost = $cost and port.region in ($regions)";
    let expected =
        |cost: i64| server.over_http(&text.replace("$cost", &cost.to_string()).replace("$regions", "'North'"), None);
    let mut prepared = server.runtime.block_on(client.prepare(text.into(), None)).unwrap();
    let names: Vec<&String> = prepared.parameter_schema().unwrap().fields().iter().map(|f| f.name()).collect();
    assert_eq!(names, ["cost", "regions"]);
    let (three, five): (ArrayRef, ArrayRef) =
        (Arc::new(Int64Array::from(vec![3])), Arc::new(StringArray::from(vec!["5"])));
    let north: ArrayRef = Arc::new(StringArray::from(vec!["North"]));
    for (binding, cost) in [
        (row(vec![("0", three.clone()), ("1", north.clone())]), 3),
        (row(vec![("regions", north.clone()), ("cost", three.clone())]), 3),
        (row(vec![("$cost", five), ("$regions", north.clone())]), 5),
    ] {
        prepared.set_parameters(binding).unwrap();
        let info = server.runtime.block_on(prepared.execute()).unwrap();
        assert_eq!(server.fetched(&mut client, info).unwrap(), expected(cost));
    }
    prepared.set_parameters(row(vec![("0", three)])).unwrap();
    let told = server.runtime.block_on(prepared.execute()).unwrap_err().to_string();
    assert!(told.contains("1 parameters are given, and 2 asked for") && told.contains("$regions"), "{told}");
    server.runtime.block_on(prepared.close()).unwrap();

    let several: ArrayRef = Arc::new(StringArray::from(vec!["Nes", "Ska"]));
    let text = "grid net by port.port where port.port in ($ports)";
    let mut prepared = server.runtime.block_on(client.prepare(text.into(), None)).unwrap();
    let told = server.runtime.block_on(prepared.execute()).unwrap_err().to_string();
    assert!(told.contains("ports"), "without a value: {told}");
    prepared.set_parameters(row(vec![("ports", several)])).unwrap();
    let info = server.runtime.block_on(prepared.execute()).unwrap();
    assert_eq!(texts(&server.fetched(&mut client, info).unwrap(), "port.port"), ["Nes", "Ska"]);

    let prepared = server.runtime.block_on(client.prepare("by_region".into(), None)).unwrap();
    let columns: Vec<&String> = prepared.dataset_schema().unwrap().fields().iter().map(|f| f.name()).collect();
    assert_eq!(columns, ["port.region", "net"], "without parameters they are known at once");
}

#[test]
fn what_there_is_is_listed_as_the_standard_has_it() {
    let server = serving("");
    let mut client = server.client(None);
    let run = &server.runtime;
    let list = |info: FlightInfo| server.fetched(&mut server.client(None), info).unwrap();
    assert_eq!(texts(&list(run.block_on(client.get_catalogs()).unwrap()), "catalog_name"), ["ferries"]);
    let schemas = CommandGetDbSchemas { catalog: None, db_schema_filter_pattern: None };
    assert_eq!(texts(&list(run.block_on(client.get_db_schemas(schemas)).unwrap()), "db_schema_name"), ["model"]);
    assert_eq!(texts(&list(run.block_on(client.get_table_types()).unwrap()), "table_type"), ["TABLE", "VIEW"]);
    let wanted = |pattern: Option<&str>, types: &[&str]| CommandGetTables {
        catalog: None,
        db_schema_filter_pattern: None,
        table_name_filter_pattern: pattern.map(str::to_string),
        table_types: types.iter().map(ToString::to_string).collect(),
        include_schema: true,
    };
    let all = list(run.block_on(client.get_tables(wanted(None, &[]))).unwrap());
    assert_eq!(texts(&all, "table_name"), ["booking", "by_cost", "by_region", "port"]);
    assert_eq!(texts(&all, "table_type"), ["TABLE", "VIEW", "VIEW", "TABLE"]);
    let schema = |at: usize| {
        let bytes = all[0].column_by_name("table_schema").unwrap().as_binary::<i32>().value(at).to_vec();
        Schema::try_from(arrow_flight::IpcMessage(bytes.into())).unwrap()
    };
    let fields = |schema: Schema| {
        let of = |f: &Arc<arrow_schema::Field>| format!("{} {}", f.name(), f.data_type());
        schema.fields().iter().map(of).collect::<Vec<_>>().join(", ")
    };
    assert_eq!(fields(schema(3)), "port Utf8, region Utf8, keeper Utf8");
    assert!(fields(schema(0)).starts_with("day Date32, port Utf8, net Decimal128"), "{}", fields(schema(0)));
    assert!(fields(schema(2)).starts_with("port.region Utf8, net Decimal128"), "{}", fields(schema(2)));
    let some = list(run.block_on(client.get_tables(wanted(Some("by\\_%"), &["VIEW"]))).unwrap());
    assert!(texts(&some, "table_name").len() <= 2);
    assert_eq!(
        texts(&list(run.block_on(client.get_tables(wanted(Some("po%"), &["TABLE"]))).unwrap()), "table_name"),
        ["port"]
    );

    let keys = CommandGetPrimaryKeys { catalog: None, db_schema: None, table: "port".into() };
    let keys = list(run.block_on(client.get_primary_keys(keys)).unwrap());
    assert_eq!(
        (texts(&keys, "table_name"), texts(&keys, "column_name")),
        (vec!["port".to_string()], vec!["port".to_string()])
    );
    let exported = CommandGetExportedKeys { catalog: None, db_schema: None, table: "port".into() };
    let exported = list(run.block_on(client.get_exported_keys(exported)).unwrap());
    let imported = CommandGetImportedKeys {
        catalog: Some("ferries".into()),
        db_schema: Some("model".into()),
        table: "booking".into(),
    };
    let imported = list(run.block_on(client.get_imported_keys(imported)).unwrap());
    assert_eq!(exported, imported);
    assert_eq!(
        (texts(&imported, "pk_table_name"), texts(&imported, "fk_column_name")),
        (vec!["port".to_string()], vec!["port".to_string()])
    );
    let none = CommandGetImportedKeys { catalog: Some("other".into()), db_schema: None, table: "booking".into() };
    assert_eq!(texts(&list(run.block_on(client.get_imported_keys(none)).unwrap()), "pk_table_name").len(), 0);

    let info = list(
        run.block_on(client.get_sql_info(vec![SqlInfo::FlightSqlServerName, SqlInfo::FlightSqlServerReadOnly]))
            .unwrap(),
    );
    assert_eq!(info[0].num_rows(), 2);
    let types = list(run.block_on(client.get_xdbc_type_info(CommandGetXdbcTypeInfo { data_type: None })).unwrap());
    assert_eq!(types[0].num_rows(), 7);
}

#[test]
fn who_calls_signs_in_and_sees_what_the_roles_leave() {
    let server = serving("sign_in = 'token'");
    let (ann, cid) = (server.token("ann", 1), server.token("cid", 1));
    let told = server.refused(&mut server.client(None), "grid net");
    assert!(told.contains("people it knows"), "{told}");
    let mut client = server.client(Some(&ann));
    let text = "grid net by port.region";
    assert_eq!(server.statement(&mut client, text).unwrap(), server.over_http(text, Some(&ann)));
    assert_eq!(texts(&server.statement(&mut client, text).unwrap(), "port.region"), ["North"]);
    let told = server.refused(&mut client, "grid secret_cost");
    assert!(told.contains("secret_cost") && !told.contains("denied"), "{told}");
    let tables = CommandGetTables { include_schema: true, ..CommandGetTables::default() };
    let info = server.runtime.block_on(client.get_tables(tables.clone())).unwrap();
    let tables_of_ann = server.fetched(&mut client, info).unwrap();
    let schemas = tables_of_ann[0].column_by_name("table_schema").unwrap().clone();
    let shown: Vec<u8> = schemas.as_binary::<i32>().iter().flatten().flatten().copied().collect();
    assert!(!String::from_utf8_lossy(&shown).contains("cost"), "what is denied is not listed");
    assert_eq!(
        texts(&tables_of_ann, "table_name"),
        ["booking", "by_region", "port"],
        "a query that cannot be asked is not listed"
    );
    let mut none = server.client(Some(&cid));
    let info = server.runtime.block_on(none.get_tables(tables)).unwrap();
    assert_eq!(server.fetched(&mut none, info).unwrap().iter().map(RecordBatch::num_rows).sum::<usize>(), 0);
    assert!(server.refused(&mut none, "grid net").contains("no model"));

    // A name with the token as password, once for all calls.
    let mut basic = server.client(None);
    server.runtime.block_on(basic.handshake("ann", &ann)).unwrap();
    assert_eq!(basic.token(), Some(&ann));
    assert_eq!(texts(&server.statement(&mut basic, text).unwrap(), "port.region"), ["North"]);
    let mut other = server.client(None);
    assert!(server.runtime.block_on(other.handshake("ben", &ann)).is_err(), "the token is not his");
    // A statement of one is none of another's.
    let ben = server.token("ben", 1);
    let info = server.runtime.block_on(client.execute(text.into(), None)).unwrap();
    let mut of_ben = server.client(Some(&ben));
    let ticket = info.endpoint[0].ticket.clone().unwrap();
    let seen: Vec<RecordBatch> =
        server.runtime.block_on(async { of_ben.do_get(ticket).await.unwrap().try_collect().await.unwrap() });
    assert_eq!(seen, server.over_http(text, Some(&ben)), "a ticket opens nothing: it is answered to who shows it");
    server.tokens().revoke("ann").unwrap();
    assert!(server.statement(&mut client, text).is_err(), "revoked while it runs");
    let guess = |n: usize| server.refused(&mut server.client(Some(&format!("{n:08x}.{n:064x}"))), "grid net");
    let last = (0..8).map(guess).last().unwrap();
    assert!(last.contains("too many wrong tokens"), "{last}");
}

#[test]
fn of_several_models_one_is_named() {
    let server = serving("[[model]]\npath = 'ferries'\nname = 'a'\n[[model]]\npath = 'ferries'\nname = 'b'");
    let mut client = server.client(None);
    let told = server.refused(&mut client, "grid net");
    assert!(told.contains("a, b") && told.contains("`model`"), "{told}");
    client.set_header("model", "b");
    assert_eq!(server.statement(&mut client, "grid rows(port) as n").unwrap().len(), 1);
    client.set_header("model", "c");
    assert!(server.refused(&mut client, "grid net").contains("no model `c`"));
}

#[test]
fn large_answers_come_in_parts() {
    let folder = folder();
    bookings(&folder.path().join("ferries"), "booking-2.csv", 0..150_000);
    let server = serving_in(folder, "", Default::default());
    let mut client = server.client(None);
    let text = "records booking.day, booking.port, booking.net, booking.cost";
    let parts = server.statement(&mut client, text).unwrap();
    assert!(parts.len() > 2, "{}", parts.len());
    assert_eq!(parts.iter().map(RecordBatch::num_rows).sum::<usize>(), 150_400);
    assert!(parts.iter().all(|part| part.get_array_memory_size() < 4 << 20));
}

#[test]
fn what_runs_is_cancelled_by_its_promise_or_by_going_away() {
    let folder = folder();
    bookings(&folder.path().join("ferries"), "booking-2.csv", 0..200_000);
    let server =
        serving_in(folder, "limits = { time = '10 min', cells = 1000000000, memory = '100 GiB' }", Default::default());
    let mut client = server.client(None);
    let parts = (0..300).map(|n| format!("median(booking.net * {n} + booking.cost) as x{n}")).collect::<Vec<_>>();
    let text = format!("grid {} by booking.day, booking.net, booking.cost, port.port", parts.join(", "));
    let info = server.runtime.block_on(client.execute(text, None)).unwrap();
    let ticket = info.endpoint[0].ticket.clone().unwrap();
    let mut again = client.clone();
    let of_run = ticket.clone();
    let running = server.runtime.spawn(async move { again.do_get(of_run).await.map(|_| ()) });
    let cancel = CancelFlightInfoRequest { info: Some(info) }.encode_to_vec();
    let status = server.runtime.block_on(async {
        loop {
            let action = Action { r#type: "CancelFlightInfo".into(), body: cancel.clone().into() };
            let reply = client.do_action(action).await.unwrap().message().await.unwrap().unwrap();
            let status = CancelFlightInfoResult::decode(&*reply.body).unwrap().status;
            // It may not have begun yet.
            if status == CancelStatus::Cancelled as i32 || running.is_finished() {
                return status;
            }
            tokio::time::sleep(std::time::Duration::from_millis(5)).await;
        }
    });
    assert_eq!(status, CancelStatus::Cancelled as i32);
    let told = server.runtime.block_on(running).unwrap().unwrap_err().to_string();
    assert!(told.contains("ended from outside") || told.to_lowercase().contains("cancel"), "{told}");

    let before = server.counted("cubrel_questions_left");
    let given_up = server.runtime.block_on(async {
        tokio::time::timeout(std::time::Duration::from_millis(300), client.do_get(ticket)).await.is_err()
    });
    assert!(given_up, "it takes longer than that");
    let start = std::time::Instant::now();
    while server.counted("cubrel_questions_left") == before {
        assert!(start.elapsed().as_secs() < 20, "nobody waits, and it goes on");
        std::thread::sleep(std::time::Duration::from_millis(20));
    }
}
