//! All that answers share.

use std::sync::Arc;

use cubrel::{Cancel, Limits};

use crate::Failure;
use crate::answers::Answers;
use crate::gate::Gate;
use crate::people::People;
use crate::served::Served;
use crate::settings::Settings;
use crate::watch::Watch;

/// All that answers share.
#[derive(Debug)]
pub struct Server {
    /// The models.
    pub models: Vec<Arc<Served>>,
    /// Who may ask.
    pub people: People,
    /// Who is worked for.
    pub gate: Gate,
    /// What was answered.
    pub answers: Answers,
    /// What was counted.
    pub watch: Watch,
    /// What a question may take.
    pub limits: Limits,
    /// Ends everything that runs.
    pub stop: Cancel,
}

impl Server {
    /// Opens all models.
    ///
    /// # Errors
    /// When one of them cannot be opened, or who is to ask has a role that it does not know.
    pub fn open(settings: &Settings) -> Result<Server, Failure> {
        let (stop, people) = (Cancel::default(), People::new(settings)?);
        let mut models = Vec::new();
        for model in &settings.models {
            let wrong = |e: cubrel::Error| {
                let help = format!("`cubrel -m {} check` tells more", model.path.display());
                Failure::new(format!("model `{}`: {e}", model.name), help)
            };
            let served = Served::open(model, settings.versions, stop.clone()).map_err(wrong)?;
            if !settings.asker.roles.is_empty() {
                served
                    .current()
                    .seen_as(&crate::people::SeenAs {
                        roles: Some(settings.asker.roles.clone()),
                        user: settings.asker.user.clone(),
                    })
                    .map_err(wrong)?;
            }
            models.push(Arc::new(served));
        }
        Ok(Server {
            models,
            people,
            gate: Gate::new(settings.at_once, settings.at_once_each, settings.queue),
            answers: Answers::new(settings.answers),
            watch: Watch::default(),
            limits: settings.limits,
            stop,
        })
    }

    /// The model of a name.
    pub fn model(&self, name: &str) -> Option<&Arc<Served>> {
        self.models.iter().find(|model| model.name == name)
    }
}
