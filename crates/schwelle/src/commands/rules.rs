//! `schwelle rules`

use clap::Args;
use schwelle_core::rules;

use crate::error::{CliError, Kind};
use crate::policy::PolicyOptions;
use crate::screen::Screen;
use crate::views;

/// List the rules, or explain one; show what a policy decides
///
/// Where there is a policy, it also shows how seriously each rule is taken, and every other thing that the
/// policy decides.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  schwelle rules\n  schwelle rules volume.hibernation\n  schwelle rules --policy shop.toml"
)]
pub(crate) struct RulesArgs {
    /// Id of a rule, as the findings name it
    #[arg(value_name = "ID")]
    id: Option<String>,
    #[command(flatten)]
    policy: PolicyOptions,
}

impl RulesArgs {
    /// The explanation of one rule.
    pub(crate) fn of(id: &str) -> Self {
        Self {
            id: Some(id.to_owned()),
            policy: PolicyOptions::default(),
        }
    }
}

pub(crate) fn run(args: &RulesArgs, screen: &Screen) -> Result<u8, CliError> {
    let policy = args.policy.read()?;
    let chosen: Vec<&rules::Rule> = match &args.id {
        None => rules::all().collect(),
        Some(id) => vec![rules::find(id).ok_or_else(|| {
            CliError::new(
                Kind::Usage,
                format!("there is no rule {id}"),
                "Findings name rules by id.",
                "See all ids: schwelle rules",
            )
        })?],
    };
    match (&args.id, &chosen[..]) {
        (Some(_), [rule]) => screen.show(&views::rules::one(rule, &policy, screen.columns())),
        _ => screen.show(&views::rules::list(&chosen, &policy, screen.columns())),
    }
    screen.document(&views::rules::Rules::of(&chosen, &policy));
    Ok(0)
}
