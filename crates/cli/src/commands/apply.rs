//! `yattic apply`

use crate::connection::{self, proved, sure};
use crate::output::{Done, Failure, Output, count, table};
use std::path::PathBuf;
use yellow_attic_client::api;

/// Bring accounts, groups, shelves, grants and rules to what a file says (administrators).
///
/// The file is TOML with [[group]], [[account]], [[shelf]], [[grant]] and [[rule]] tables. Applied
/// again, it changes nothing more. It takes nothing away that it does not name. A plan with something
/// wrong in it is not applied at all.
#[derive(clap::Args)]
pub struct Apply {
    /// The plan.
    plan: PathBuf,
    /// Only tell what would happen.
    #[arg(long)]
    preview: bool,
    /// Do not ask.
    #[arg(long)]
    yes: bool,
}

impl Apply {
    pub async fn run(self, output: Output) -> Done {
        let shown = self.plan.display();
        let text = std::fs::read_to_string(&self.plan)
            .map_err(|e| Failure::failed(format!("{shown}: {e}"), "Name a file that can be read."))?;
        let plan: api::Plan = toml::from_str(&text).map_err(|e| {
            Failure::failed(
                format!("{shown}: {}", e.to_string().trim_end()),
                "Correct the plan; see docs/plans.md.",
            )
        })?;
        let client = connection::client()?;
        let look = api::ApplyPlan { plan: plan.clone(), preview: true };
        let told = client.apply_plan(&look).await?;
        let wrong = told.steps.iter().filter(|s| s.fate == "wrong").count();
        let changes = told.steps.iter().filter(|s| ["made", "changed"].contains(&s.fate.as_str())).count();
        if wrong > 0 || self.preview || changes == 0 {
            show(output, &told)?;
            if wrong > 0 {
                return Err(Failure::failed(
                    format!("{} cannot be; nothing was changed", count(wrong, "step")),
                    "Correct them and apply the plan again.",
                ));
            }
            return Ok(());
        }
        if !self.yes && !output.json {
            show(output, &told)?;
        }
        sure(self.yes, &format!("{} would be done", count(changes, "step")), "Apply the plan?")?;
        let apply = api::ApplyPlan { plan, preview: false };
        let done = proved(&client, async || client.apply_plan(&apply).await).await?;
        show(output, &done)?;
        match done.steps.iter().filter(|s| s.fate == "wrong").count() {
            0 => Ok(()),
            n => Err(Failure::partly(format!("{} failed; the others are done", count(n, "step")))),
        }
    }
}

fn show(output: Output, told: &api::PlanTold) -> Done {
    if output.object(told)? {
        return Ok(());
    }
    let mut rows =
        vec![["what", "which", if told.done { "is" } else { "would be" }, ""].map(String::from).to_vec()];
    rows.extend(
        told.steps.iter().map(|s| vec![s.kind.clone(), s.name.clone(), s.fate.clone(), s.details.join("; ")]),
    );
    table(&rows, &[]);
    Ok(())
}
