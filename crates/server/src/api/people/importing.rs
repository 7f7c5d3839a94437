//! Lists of people: what each row asks for, what becomes of it, and the doing.

use crate::api::people::lists::{carry_out, invite, present, told};
use crate::dto::directory::Directory;
use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::state::State;
use crate::state::sessions::Who;
use actix_web::{HttpResponse, post, web};
use std::collections::BTreeMap;
use yellow_attic_api as api;
use yellow_attic_core::people::{Fate, Wanted, Wrong, plan_people, read_list};
use yellow_attic_core::proof::Deed;

/// The most bytes of a list.
const MOST: usize = 16 << 20;

/// Takes a list of people (CSV): tells what becomes of each row, and unless it is a preview does
/// it. A bad row stops no other.
#[utoipa::path(context_path = "/api/v1", tag = "people", params(api::ListPeopleQuery),
    request_body(content = Vec<u8>, content_type = "text/csv"),
    responses((status = 200, body = api::ListedPeople), (status = 400, body = api::Problem), (status = 403, body = api::Problem), (status = 413, body = api::Problem)))]
#[post("/accounts/list")]
pub async fn take_list(
    state: web::Data<State>,
    who: Who,
    query: web::Query<api::ListPeopleQuery>,
    body: web::Payload,
) -> Result<HttpResponse, Refusal> {
    who.need_administrator()?;
    let bytes = match body.to_bytes_limited(MOST).await {
        Ok(Ok(bytes)) => bytes,
        _ => {
            return Err(refusals::LIST_TOO_LARGE.of("It has more than 16 MiB, or did not arrive whole."));
        }
    };
    let mapping: BTreeMap<String, String> = match query.columns.as_str() {
        "" => BTreeMap::new(),
        text => serde_json::from_str(text).map_err(|e| refusals::COLUMNS_MALFORMED.of(&format!("{e}.")))?,
    };
    let list = read_list(&bytes, &mapping).map_err(|e| {
        let said = crate::http::words::capital(&e.to_string());
        refusals::LIST_UNREADABLE.of(&format!("{said}."))
    })?;
    let all = Directory::read(&state).await?;
    let groups: Vec<String> = all.groups.iter().map(|g| g.name.clone()).collect();
    let mut fates = plan_people(&list.rows, &present(&all), &groups, query.change);
    let mut invited = 0;
    if !query.preview {
        who.need(&state, Deed::ImportAccounts)?;
        carry_out(&state, &who.actor, &all, &list.rows, &mut fates).await?;
        if query.invite {
            invited = invite(&state, &who.actor, &list.rows, &fates).await?;
        }
        state.names.forget().await;
        state.revoked();
    }
    let rows: Vec<api::ListRow> =
        list.rows.iter().zip(&fates).map(|(row, fate)| shown(row.line, &row.wanted, fate)).collect();
    let mut sums = BTreeMap::new();
    for row in &rows {
        *sums.entry(row.fate.clone()).or_default() += 1;
    }
    let columns = list.columns.into_iter();
    Ok(HttpResponse::Ok().json(api::ListedPeople {
        columns: columns
            .map(|(heading, column)| api::ListColumn {
                heading,
                column: column.map(|c| c.word().to_string()),
            })
            .collect(),
        separator: list.separator.to_string(),
        rows,
        sums,
        done: !query.preview,
        invited,
    }))
}

fn shown(line: usize, wanted: &Result<Wanted, Vec<Wrong>>, fate: &Fate) -> api::ListRow {
    let (fate, details) = told(fate);
    let wanted = wanted.as_ref().ok();
    api::ListRow {
        line,
        sign_in: wanted.map(|w| w.sign_in.clone()).unwrap_or_default(),
        display_name: wanted.and_then(|w| w.display_name.clone()).unwrap_or_default(),
        fate: fate.to_string(),
        details,
    }
}
