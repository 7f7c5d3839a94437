//! The API: one resource per file.

pub mod accounts;
pub mod archives;
pub mod delta;
mod description;
pub mod events;
pub mod factors;
pub mod files;
pub mod given;
pub mod groups;
pub mod guests;
pub mod importing;
pub mod kept;
pub mod leaving;
pub mod locks;
pub mod mailing;
pub mod nodes;
pub mod openings;
pub mod own;
pub mod people;
pub mod plans;
pub mod rights;
pub mod rollbacks;
pub mod rules;
pub mod search;
pub mod sessions;
pub mod shelves;
mod shown;
pub mod signing;
pub mod slowed;
pub mod snapshots;
pub mod space;
pub mod store_state;
pub mod uploads;

use actix_web::{HttpResponse, web};
use utoipa::OpenApi;
use yellow_attic_api as api;

/// The routes below `/api/v1`.
pub fn routes(app: &mut web::ServiceConfig) {
    // Tried one after the other: what is asked for most stands first.
    app.service(files::get_by_path)
        .service(files::put_by_path)
        .service(files::put_in_folder)
        .service(nodes::content)
        .service(nodes::entries)
        .service(nodes::thumbnail)
        .service(nodes::facts)
        .service(nodes::resolve)
        .service(uploads::one_upload)
        .service(uploads::begin_upload)
        .service(sessions::welcome)
        .service(sessions::set_up)
        .service(sessions::sign_in)
        .service(sessions::sign_out)
        .service(sessions::list_devices)
        .service(sessions::connect)
        .service(sessions::disconnect)
        .service(sessions::end_device)
        .service(signing::invite)
        .service(signing::look_at_invitation)
        .service(signing::accept_invitation)
        .service(signing::change_password)
        .service(signing::list_sessions)
        .service(signing::end_session)
        .service(people::prove)
        .service(people::ask_proof)
        .service(people::list_people)
        .service(accounts::list_accounts)
        .service(accounts::make_account)
        .service(accounts::show_account)
        .service(accounts::change_account)
        .service(accounts::end_session_of)
        .service(accounts::end_device_of)
        .service(accounts::end_invitation)
        .service(groups::list_groups)
        .service(groups::show_group)
        .service(groups::make_group)
        .service(groups::change_group)
        .service(groups::end_group)
        .service(factors::ask_passkey)
        .service(factors::second_step)
        .service(factors::list_factors)
        .service(factors::begin_codes)
        .service(factors::confirm_codes)
        .service(factors::begin_passkey)
        .service(factors::confirm_passkey)
        .service(factors::end_factor)
        .service(factors::renew_recovery)
        .service(factors::end_factors)
        .service(own::show_own)
        .service(own::change_own)
        .service(own::set_picture)
        .service(own::end_picture)
        .service(own::show_picture)
        .service(own::begin_look)
        .service(own::end_look)
        .service(guests::invite_guest)
        .service(guests::sign_up)
        .service(importing::take_list)
        .service(plans::apply_plan)
        .service(leaving::show_removal)
        .service(leaving::decide_removal)
        .service(leaving::undo_removal)
        .service(rules::list_rules)
        .service(rules::set_rule)
        .service(mailing::show_mail)
        .service(mailing::test_mail)
        .service(mailing::change_letter)
        .service(openings::list_openings)
        .service(openings::make_opening)
        .service(openings::show_opening)
        .service(openings::change_opening)
        .service(openings::draw_opening)
        .service(openings::mail_opening)
        .service(openings::list_deliveries)
        .service(given::list_given)
        .service(given::change_given)
        .service(openings::check_address)
        .service(shelves::list_shared)
        .service(shelves::change_shelf)
        .service(shelves::raise)
        .service(shelves::lower)
        .service(rights::show_rights)
        .service(rights::give_right)
        .service(rights::end_grant)
        .service(rights::set_afresh)
        .service(rights::who_may)
        .service(rights::why_may)
        .service(shelves::list)
        .service(shelves::make)
        .service(shelves::changes)
        .service(nodes::make_folder)
        .service(nodes::change)
        .service(nodes::copy)
        .service(nodes::remove)
        .service(locks::take_lock)
        .service(locks::end_lock)
        .service(nodes::restore)
        .service(nodes::history)
        .service(nodes::activity)
        .service(kept::show_trash)
        .service(kept::let_go)
        .service(kept::show_going)
        .service(kept::show_clock)
        .service(store_state::store_state)
        .service(slowed::list_slowed)
        .service(slowed::release)
        .service(kept::confirm_clock)
        .service(kept::name_version)
        .service(kept::compare)
        .service(snapshots::list_snapshots)
        .service(snapshots::take_snapshot)
        .service(snapshots::change_snapshot)
        .service(snapshots::end_snapshot)
        .service(rollbacks::look_at_rollback)
        .service(rollbacks::begin_rollback)
        .service(rollbacks::list_rollbacks)
        .service(rollbacks::show_rollback)
        .service(rollbacks::stop_rollback)
        .service(rollbacks::undo_rollback)
        .service(rollbacks::list_alarms)
        .service(rollbacks::settle_alarm)
        .service(space::show_space)
        .service(space::show_folder_space)
        .service(space::list_quotas)
        .service(space::set_quota)
        .service(delta::show_chunks)
        .service(delta::assemble)
        .service(files::take_tar)
        .service(uploads::upload_options)
        .service(uploads::list_uploads)
        .service(uploads::place_upload)
        .service(archives::fetch_folder)
        .service(archives::gather)
        .service(archives::fetch_gathered)
        .service(search::find)
        .service(search::recent)
        .service(events::events);
}

/// The description of the API, made from the code.
#[derive(OpenApi)]
#[openapi(
    info(
        title = "Yellow Attic",
        description = "Files kept safely. Errors are RFC 9457 problem details with a stable `code` and a `remedy`. \
            Times are RFC 3339 in UTC, sizes are bytes, moments are opaque tokens. Sign in with a session cookie \
            (console) or a device's bearer token."
    ),
    paths(
        sessions::welcome, sessions::set_up, sessions::sign_in, sessions::sign_out, sessions::list_devices,
        sessions::connect, sessions::disconnect, sessions::end_device, people::prove, people::ask_proof, signing::invite, signing::look_at_invitation, signing::accept_invitation,
        signing::change_password, signing::list_sessions, signing::end_session, people::list_people, accounts::list_accounts,
        accounts::make_account, accounts::show_account, accounts::change_account, accounts::end_session_of, accounts::end_device_of, accounts::end_invitation, groups::list_groups, groups::show_group, groups::make_group, groups::change_group,
        groups::end_group, factors::ask_passkey, factors::second_step, factors::list_factors, factors::begin_codes, factors::confirm_codes, factors::begin_passkey, factors::confirm_passkey, factors::end_factor, factors::renew_recovery, factors::end_factors, own::show_own, own::change_own, own::set_picture, own::end_picture, own::show_picture, own::begin_look, own::end_look, guests::invite_guest, guests::sign_up, importing::take_list, plans::apply_plan, leaving::show_removal, leaving::decide_removal, leaving::undo_removal, rules::list_rules, rules::set_rule, mailing::show_mail, mailing::test_mail, mailing::change_letter, openings::list_openings, openings::make_opening, openings::show_opening, openings::change_opening, openings::draw_opening, openings::mail_opening, openings::list_deliveries, given::list_given, given::change_given, openings::check_address, shelves::list_shared, shelves::change_shelf, shelves::raise, shelves::lower, rights::show_rights, rights::give_right, rights::end_grant, rights::set_afresh, rights::who_may, rights::why_may, shelves::list, shelves::make,
        shelves::changes, nodes::resolve, nodes::facts, nodes::entries, nodes::make_folder, nodes::change,
        nodes::copy, nodes::remove, locks::take_lock, locks::end_lock, nodes::restore, nodes::history, nodes::activity, nodes::content, nodes::thumbnail,
        files::put_in_folder, files::get_by_path, files::put_by_path, files::take_tar, delta::show_chunks, delta::assemble, uploads::upload_options,
        uploads::list_uploads, uploads::begin_upload, uploads::one_upload, uploads::place_upload,
        archives::fetch_folder, archives::gather, archives::fetch_gathered, search::find, search::recent,
        events::events, kept::show_trash, kept::let_go, kept::show_going, kept::show_clock, kept::confirm_clock, kept::name_version, kept::compare,
        snapshots::list_snapshots, snapshots::take_snapshot, snapshots::change_snapshot, snapshots::end_snapshot,
        rollbacks::look_at_rollback, rollbacks::begin_rollback, rollbacks::list_rollbacks, rollbacks::show_rollback,
        rollbacks::stop_rollback, rollbacks::undo_rollback, rollbacks::list_alarms, rollbacks::settle_alarm,
        space::show_space, space::show_folder_space, space::list_quotas, space::set_quota, store_state::store_state, slowed::list_slowed, slowed::release,
    ),
    components(schemas(api::Problem)),
    tags(
        (name = "sign-in", description = "Who asks"),
        (name = "people", description = "Accounts and groups"),
        (name = "rights", description = "Who may do what, and why"),
        (name = "rules", description = "Settings of which the tightest counts"),
        (name = "strangers", description = "Links, intakes, and all that was given out"),
        (name = "history", description = "Trash, versions, snapshots, rollbacks, and what keeps them"),
        (name = "space", description = "Where the space went, and how much there may be"),
        (name = "mail", description = "The mail server and what goes out"),
        (name = "shelves", description = "What one may enter"),
        (name = "nodes", description = "Files and folders, now and then"),
        (name = "files", description = "Bytes in and out")
    )
)]
struct Description;

/// Serves the description.
pub async fn openapi() -> HttpResponse {
    HttpResponse::Ok().json(description())
}

/// The API, described (OpenAPI 3.1).
pub fn description() -> &'static serde_json::Value {
    static ALL: std::sync::OnceLock<serde_json::Value> = std::sync::OnceLock::new();
    ALL.get_or_init(|| {
        description::complete(serde_json::to_value(Description::openapi()).unwrap_or_default())
    })
}
