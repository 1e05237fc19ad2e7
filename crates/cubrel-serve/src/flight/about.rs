//! What clients ask of the server itself: what it is and can do, and which types its columns have.

use arrow_flight::error::Result;
use arrow_flight::sql::metadata::{
    SqlInfoData, SqlInfoDataBuilder, XdbcTypeInfo, XdbcTypeInfoData, XdbcTypeInfoDataBuilder,
};
use arrow_flight::sql::{
    Nullable, Searchable, SqlInfo, SqlSupportedCaseSensitivity, SqlSupportedTransaction, XdbcDataType,
    XdbcDatetimeSubcode,
};

/// What the server is and can do.
pub fn server() -> Result<SqlInfoData> {
    let mut info = SqlInfoDataBuilder::new();
    info.append(SqlInfo::FlightSqlServerName, "cubrel");
    info.append(SqlInfo::FlightSqlServerVersion, env!("CARGO_PKG_VERSION"));
    info.append(SqlInfo::FlightSqlServerArrowVersion, "1.3");
    info.append(SqlInfo::FlightSqlServerReadOnly, true);
    // Statements are queries of ours.
    info.append(SqlInfo::FlightSqlServerSql, false);
    info.append(SqlInfo::FlightSqlServerSubstrait, false);
    info.append(SqlInfo::FlightSqlServerTransaction, SqlSupportedTransaction::None as i32);
    info.append(SqlInfo::FlightSqlServerCancel, true);
    info.append(SqlInfo::SqlDdlCatalog, false);
    info.append(SqlInfo::SqlDdlSchema, false);
    info.append(SqlInfo::SqlDdlTable, false);
    info.append(SqlInfo::SqlIdentifierQuoteChar, "\"");
    info.append(SqlInfo::SqlIdentifierCase, SqlSupportedCaseSensitivity::SqlCaseSensitivityUnknown as i32);
    info.build()
}

/// The types that columns have, as formulas write them, with what other programs take them for.
pub fn types() -> Result<XdbcTypeInfoData> {
    let plain = |name: &str, data_type: XdbcDataType, size: i32| XdbcTypeInfo {
        type_name: name.into(),
        data_type,
        column_size: Some(size),
        nullable: Nullable::NullabilityNullable,
        case_sensitive: true,
        searchable: Searchable::Full,
        sql_data_type: data_type,
        local_type_name: Some(name.into()),
        ..XdbcTypeInfo::default()
    };
    let number = |name: &str, data_type, size, radix| XdbcTypeInfo {
        unsigned_attribute: Some(false),
        num_prec_radix: Some(radix),
        ..plain(name, data_type, size)
    };
    let quoted = |info: XdbcTypeInfo, prefix: &str| XdbcTypeInfo {
        literal_prefix: Some(prefix.into()),
        literal_suffix: Some("'".into()),
        ..info
    };
    let moment = |name: &str, data_type, size, subcode| XdbcTypeInfo {
        sql_data_type: XdbcDataType::XdbcDatetime,
        datetime_subcode: Some(subcode),
        ..quoted(plain(name, data_type, size), &format!("{name} '"))
    };
    let mut types = XdbcTypeInfoDataBuilder::new();
    types.append(plain("bool", XdbcDataType::XdbcBit, 1));
    types.append(number("int", XdbcDataType::XdbcBigint, 64, 2));
    types.append(XdbcTypeInfo {
        fixed_prec_scale: true,
        minimum_scale: Some(0),
        maximum_scale: Some(38),
        ..number("decimal", XdbcDataType::XdbcDecimal, 38, 10)
    });
    types.append(number("float", XdbcDataType::XdbcDouble, 53, 2));
    types.append(quoted(plain("text", XdbcDataType::XdbcVarchar, i32::MAX), "'"));
    // What stands for dates in SQL has the number 1, which is called otherwise here.
    types.append(moment("date", XdbcDataType::XdbcDate, 10, XdbcDatetimeSubcode::XdbcSubcodeYear));
    types.append(moment("timestamp", XdbcDataType::XdbcTimestamp, 26, XdbcDatetimeSubcode::XdbcSubcodeTimestamp));
    types.build()
}
