//! Functions of numbers.

use super::batches::{self, Cut, round_float};
use super::entry::{Argument, Function, FunctionError, Parameter};
use cubrel_value::{Type, Value, exact};

fn first_type(args: &[Argument<'_>]) -> Type {
    args.first().map_or(Type::Null, |a| a.ty)
}

fn float_type(_: &[Argument<'_>]) -> Type {
    Type::Float
}

fn int_type(_: &[Argument<'_>]) -> Type {
    Type::Int
}

/// Exact numbers lose their decimals; floats stay floats.
fn whole_type(args: &[Argument<'_>]) -> Type {
    if first_type(args) == Type::Float { Type::Float } else { Type::Int }
}

/// With a literal number of digits, an exact result has just these; else it keeps its scale.
fn rounded_type(args: &[Argument<'_>]) -> Type {
    let ty = first_type(args);
    if !ty.is_exact() {
        return ty;
    }
    let digits = match args.get(1) {
        None => 0,
        Some(Argument { literal: Some(Value::Int(n)), .. }) => *n,
        Some(_) => return ty,
    };
    let scale = digits.clamp(0, i64::from(ty.scale())) as u8;
    if scale == 0 { Type::Int } else { Type::decimal(scale) }
}

/// An exact value at the scale of the result's type.
fn exact_value(v: i128, ty: Type) -> Result<Value, FunctionError> {
    match ty {
        Type::Int => i64::try_from(v).map(Value::Int).map_err(|_| "the result does not fit 64 bits".into()),
        _ => Ok(Value::Decimal { unscaled: v, scale: ty.scale() }),
    }
}

fn too_large() -> FunctionError {
    "the result has more than 38 digits".into()
}

fn parts(value: &Value) -> Option<(i128, u8)> {
    match value {
        Value::Int(v) => Some((i128::from(*v), 0)),
        Value::Decimal { unscaled, scale } => Some((*unscaled, *scale)),
        _ => None,
    }
}

/// How an exact number loses digits: the number and the power of ten that is cut off.
type CutOne = fn(i128, i128) -> i128;

fn cut_round(v: i128, by: i128) -> i128 {
    exact::divide_rounded(v, by)
}

fn cut_floor(v: i128, by: i128) -> i128 {
    v.div_euclid(by)
}

fn cut_ceil(v: i128, by: i128) -> i128 {
    -(-v).div_euclid(by)
}

fn cut_trunc(v: i128, by: i128) -> i128 {
    v / by
}

/// Keeps `digits` decimals (negative: zeros before the point) and gives the result at the scale of `ty`.
fn keep_digits(value: &Value, digits: i64, ty: Type, cut: CutOne) -> Result<Value, FunctionError> {
    let Some((v, scale)) = parts(value) else {
        return Ok(Value::Null);
    };
    let drop = i64::from(scale) - digits;
    if drop <= 0 {
        return exact_value(exact::rescale(v, scale, ty.scale()).ok_or_else(too_large)?, ty);
    }
    if drop > 38 {
        return exact_value(0, ty);
    }
    let by = exact::pow10(drop as u8);
    let rounded = exact::checked(cut(v, by).checked_mul(by)).ok_or_else(too_large)?;
    exact_value(exact::rescale(rounded, scale, ty.scale()).ok_or_else(too_large)?, ty)
}

fn digits_argument(args: &[Value]) -> i64 {
    match args.get(1) {
        Some(Value::Int(n)) => (*n).clamp(-400, 400),
        _ => 0,
    }
}

fn round(args: &[Value], ty: Type) -> Result<Value, FunctionError> {
    match &args[0] {
        Value::Float(x) => Ok(Value::float(round_float(*x, digits_argument(args), f64::round))),
        v => keep_digits(v, digits_argument(args), ty, cut_round),
    }
}

fn trunc(args: &[Value], ty: Type) -> Result<Value, FunctionError> {
    match &args[0] {
        Value::Float(x) => Ok(Value::float(round_float(*x, digits_argument(args), f64::trunc))),
        v => keep_digits(v, digits_argument(args), ty, cut_trunc),
    }
}

fn floor(args: &[Value], ty: Type) -> Result<Value, FunctionError> {
    match &args[0] {
        Value::Float(x) => Ok(Value::float(x.floor())),
        v => keep_digits(v, 0, ty, cut_floor),
    }
}

fn ceil(args: &[Value], ty: Type) -> Result<Value, FunctionError> {
    match &args[0] {
        Value::Float(x) => Ok(Value::float(x.ceil())),
        v => keep_digits(v, 0, ty, cut_ceil),
    }
}

fn abs(args: &[Value], ty: Type) -> Result<Value, FunctionError> {
    match &args[0] {
        Value::Float(x) => Ok(Value::Float(x.abs())),
        v => exact_value(parts(v).map_or(0, |(v, _)| v.abs()), ty),
    }
}

fn sign(args: &[Value], _: Type) -> Result<Value, FunctionError> {
    let x = args[0].as_f64().unwrap_or(0.0);
    Ok(Value::Int(if x > 0.0 {
        1
    } else if x < 0.0 {
        -1
    } else {
        0
    }))
}

/// Infinite and undefined results are null: nothing in the language is "not a number".
fn finite(x: f64) -> Result<Value, FunctionError> {
    Ok(if x.is_finite() { Value::float(x) } else { Value::Null })
}

fn number(args: &[Value], i: usize) -> f64 {
    args[i].as_f64().unwrap_or(f64::NAN)
}

fn power(args: &[Value], _: Type) -> Result<Value, FunctionError> {
    finite(number(args, 0).powf(number(args, 1)))
}

fn modulo_type(args: &[Argument<'_>]) -> Type {
    args.iter().skip(1).fold(first_type(args), |t, a| t.common(a.ty).unwrap_or(t))
}

fn modulo(args: &[Value], ty: Type) -> Result<Value, FunctionError> {
    if ty == Type::Float {
        return finite(number(args, 0) % number(args, 1));
    }
    let (Some(a), Some(b)) = (args[0].as_exact(ty.scale()), args[1].as_exact(ty.scale())) else {
        return Ok(Value::Null);
    };
    if b == 0 { Ok(Value::Null) } else { exact_value(a % b, ty) }
}

fn least(args: &[Value], _: Type) -> Result<Value, FunctionError> {
    Ok(args.iter().min_by(|a, b| a.total_cmp(b)).cloned().unwrap_or(Value::Null))
}

fn greatest(args: &[Value], _: Type) -> Result<Value, FunctionError> {
    Ok(args.iter().max_by(|a, b| a.total_cmp(b)).cloned().unwrap_or(Value::Null))
}

const NUMBER: &[Parameter] = &[Parameter::Number];
const FLOAT: &[Parameter] = &[Parameter::Float];

macro_rules! of_float {
    ($name:literal, $meaning:literal, $example:literal, $result:literal, $f:expr) => {
        Function {
            name: $name,
            signature: concat!($name, "(x: number) -> float"),
            meaning: $meaning,
            example: ($example, $result),
            parameters: FLOAT,
            optional: 0,
            repeated: false,
            result: float_type,
            sees_nulls: false,
            run: |args, _| finite($f(number(args, 0))),
            batch: Some(|vectors, _, _| batches::of_float(vectors, $f)),
        }
    };
}

const BASE: Function = Function {
    name: "",
    signature: "",
    meaning: "",
    example: ("", ""),
    parameters: NUMBER,
    optional: 0,
    repeated: false,
    result: first_type,
    sees_nulls: false,
    run: |args, _| Ok(args[0].clone()),
    batch: None,
};

pub(super) static FUNCTIONS: &[Function] = &[
    Function {
        name: "abs",
        signature: "abs(x: number) -> as x",
        meaning: "the number without its sign",
        example: ("abs(-2.5)", "2.5"),
        run: abs,
        batch: Some(|vectors, _, _| batches::abs(vectors)),
        ..BASE
    },
    Function {
        name: "round",
        signature: "round(x: number [, digits: int]) -> as x",
        meaning: "rounded half away from zero, to `digits` decimals (default 0; negative: before the point)",
        example: ("round(2.345, 2)", "2.35"),
        parameters: &[Parameter::Number, Parameter::Int],
        optional: 1,
        result: rounded_type,
        run: round,
        batch: Some(|vectors, types, ty| batches::cut(Cut::Round, vectors, types, ty)),
        ..BASE
    },
    Function {
        name: "floor",
        signature: "floor(x: number) -> int or float",
        meaning: "the largest whole number that is not above",
        example: ("floor(-2.5)", "-3"),
        result: whole_type,
        run: floor,
        batch: Some(|vectors, types, ty| batches::cut(Cut::Floor, vectors, types, ty)),
        ..BASE
    },
    Function {
        name: "ceil",
        signature: "ceil(x: number) -> int or float",
        meaning: "the smallest whole number that is not below",
        example: ("ceil(2.1)", "3"),
        result: whole_type,
        run: ceil,
        batch: Some(|vectors, types, ty| batches::cut(Cut::Ceil, vectors, types, ty)),
        ..BASE
    },
    Function {
        name: "trunc",
        signature: "trunc(x: number [, digits: int]) -> as x",
        meaning: "cut off towards zero, to `digits` decimals (default 0)",
        example: ("trunc(-2.79, 1)", "-2.7"),
        parameters: &[Parameter::Number, Parameter::Int],
        optional: 1,
        result: rounded_type,
        run: trunc,
        batch: Some(|vectors, types, ty| batches::cut(Cut::Trunc, vectors, types, ty)),
        ..BASE
    },
    Function {
        name: "sign",
        signature: "sign(x: number) -> int",
        meaning: "-1, 0 or 1",
        example: ("sign(-0.5)", "-1"),
        result: int_type,
        run: sign,
        ..BASE
    },
    Function {
        name: "power",
        signature: "power(x: number, y: number) -> float",
        meaning: "x to the power of y",
        example: ("power(2, 10)", "1024"),
        parameters: &[Parameter::Float, Parameter::Float],
        result: float_type,
        run: power,
        ..BASE
    },
    of_float!("sqrt", "the square root; null below zero", "sqrt(6.25)", "2.5", f64::sqrt),
    of_float!("exp", "e to the power of x", "exp(0)", "1", f64::exp),
    of_float!("ln", "the natural logarithm; null at and below zero", "ln(1)", "0", f64::ln),
    of_float!("log10", "the logarithm to base 10; null at and below zero", "log10(1000)", "3", f64::log10),
    Function {
        name: "mod",
        signature: "mod(x: number, y: number) -> number",
        meaning: "the rest of x divided by y, with the sign of x; null when y is 0",
        example: ("mod(-7, 3)", "-1"),
        parameters: &[Parameter::Number, Parameter::Number],
        result: modulo_type,
        run: modulo,
        ..BASE
    },
    Function {
        name: "least",
        signature: "least(a, b, …) -> as the arguments",
        meaning: "the smallest argument; null when one of them is",
        example: ("least(3, 1.5, 2)", "1.5"),
        parameters: &[Parameter::Any, Parameter::Any],
        repeated: true,
        run: least,
        batch: Some(|vectors, types, ty| batches::extreme(vectors, types, ty, i64::min, f64::min)),
        ..BASE
    },
    Function {
        name: "greatest",
        signature: "greatest(a, b, …) -> as the arguments",
        meaning: "the largest argument; null when one of them is",
        example: ("greatest(3, 1.5, 2)", "3.0"),
        parameters: &[Parameter::Any, Parameter::Any],
        repeated: true,
        run: greatest,
        batch: Some(|vectors, types, ty| batches::extreme(vectors, types, ty, i64::max, f64::max)),
        ..BASE
    },
];
