//! In which form an answer goes out: what the request says that it accepts (RFC 9110, section 12.5.1).

use std::time::Duration;

use cubrel::{Error, Formats, Grid};
use cubrel_workbook::WorkbookError;
use utoipa::ToSchema;

/// A form of a grid.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ToSchema)]
#[schema(rename_all = "lowercase")]
pub enum Form {
    /// As the tool writes it.
    Json,
    /// Bare values.
    Csv,
    /// A stream of Arrow IPC.
    Arrow,
    /// A workbook.
    Xlsx,
}

impl Form {
    /// All forms, the usual one first.
    const ALL: [Form; 4] = [Form::Json, Form::Csv, Form::Arrow, Form::Xlsx];

    /// Its media type.
    pub fn media_type(self) -> &'static str {
        match self {
            Form::Json => "application/json",
            Form::Csv => "text/csv; charset=utf-8",
            Form::Arrow => "application/vnd.apache.arrow.stream",
            Form::Xlsx => "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
        }
    }

    /// Its name in addresses.
    pub fn name(self) -> &'static str {
        match self {
            Form::Json => "json",
            Form::Csv => "csv",
            Form::Arrow => "arrow",
            Form::Xlsx => "xlsx",
        }
    }

    /// The form of a name.
    pub fn named(name: &str) -> Option<Form> {
        Form::ALL.into_iter().find(|form| form.name() == name)
    }

    /// The forms that there are, for people.
    pub fn all() -> String {
        Form::ALL.map(|form| form.media_type().split(';').next().unwrap_or_default()).join(", ")
    }

    /// What a request likes best of those that there are; where it says nothing, JSON.
    pub fn accepted(accept: Option<&str>) -> Option<Form> {
        let Some(accept) = accept.filter(|a| !a.trim().is_empty()) else { return Some(Form::Json) };
        let weights = Form::ALL.map(|form| (form, weight(accept, form.media_type())));
        let best = weights.iter().map(|(_, weight)| *weight).max().filter(|weight| *weight > 0)?;
        weights.into_iter().find(|(_, weight)| *weight == best).map(|(form, _)| form)
    }

    /// A grid in it; of texts, perhaps as people read them: only then is asked how the model writes values.
    ///
    /// # Errors
    /// When a grid cannot be had in it.
    pub fn of(
        self,
        grid: &Grid,
        formats: impl FnOnce() -> Result<Formats, Error>,
        is_shown: bool,
        elapsed: Duration,
    ) -> Result<Vec<u8>, Error> {
        match self {
            Form::Json => Ok(grid.to_json(elapsed).to_string().into_bytes()),
            Form::Csv if is_shown => Ok(grid.to_csv(Some(&formats()?)).into_bytes()),
            Form::Csv => Ok(grid.to_csv(None).into_bytes()),
            Form::Arrow => Ok(grid.to_arrow_stream()?),
            Form::Xlsx => {
                let told = |e: WorkbookError| Error::Form(format!("{e}: {}", e.help()));
                cubrel_workbook::workbook(grid, &formats()?, false).map_err(told)
            }
        }
    }
}

/// How much a media type is wanted, in thousandths: what names it most exactly says so.
fn weight(accept: &str, media_type: &str) -> u32 {
    let media_type = media_type.split(';').next().unwrap_or_default();
    let kind = media_type.split('/').next().unwrap_or_default();
    let ranges = accept.split(',').filter_map(|range| {
        let mut parts = range.split(';').map(str::trim);
        let name = parts.next()?.to_ascii_lowercase();
        let exact = match name.as_str() {
            "*/*" => 0,
            n if n.strip_suffix("/*") == Some(kind) => 1,
            n if n == media_type => 2,
            _ => return None,
        };
        let quality = parts.find_map(|p| p.strip_prefix("q=")).map_or(1.0, |q| q.parse::<f32>().unwrap_or(0.0));
        Some((exact, (quality.clamp(0.0, 1.0) * 1000.0) as u32))
    });
    ranges.max_by_key(|(exact, _)| *exact).map_or(0, |(_, quality)| quality)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_accepted_is_read_as_the_standard_has_it() {
        let cases = [
            ("", Some(Form::Json)),
            ("*/*", Some(Form::Json)),
            ("text/csv", Some(Form::Csv)),
            ("text/*", Some(Form::Csv)),
            ("application/vnd.apache.arrow.stream", Some(Form::Arrow)),
            ("text/csv;q=0.5, application/json;q=0.4", Some(Form::Csv)),
            ("application/json;q=0, */*;q=0.1", Some(Form::Csv)),
            ("text/html, application/xhtml+xml, */*;q=0.8", Some(Form::Json)),
            ("TEXT/CSV", Some(Form::Csv)),
            ("image/png", None),
            ("text/csv;q=0", None),
            ("text/csv;q=nothing", None),
            (";;,,", None),
        ];
        for (accept, expected) in cases {
            assert_eq!(Form::accepted(Some(accept)), expected, "{accept}");
        }
        assert_eq!(Form::accepted(None), Some(Form::Json));
    }
}
