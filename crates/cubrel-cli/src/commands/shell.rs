//! `cubrel shell`

use super::asked::Asked;

/// Arguments of `shell`.
#[derive(clap::Args, Debug)]
#[command(after_help = "Examples:
  cubrel shell
  cubrel -m ferries shell --as north_desk
  cubrel shell < questions.txt

Tab completes names, and values between quotes. `\\help` lists what else there is.")]
pub struct Args {
    #[command(flatten)]
    pub asked: Asked,
    /// Complete and list only what is on a shortlist of the model
    #[arg(long, value_name = "NAME")]
    pub shortlist: Option<String>,
}
