//! The API: one resource per file.

pub mod admin;
mod description;
pub mod files;
pub mod history;
pub mod people;
pub mod session;
pub mod sharing;

use actix_web::{HttpResponse, web};
use utoipa::OpenApi;
use yellow_attic_api as api;

/// Makes the routes and their description from one list.
macro_rules! operations {
    ($($area:ident::$file:ident::$operation:ident,)*) => {
        /// The routes below `/api/v1`.
        pub fn routes(app: &mut web::ServiceConfig) {
            $(app.service($area::$file::$operation);)*
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
            paths($($area::$file::$operation,)*),
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
    };
}

// Tried one after the other: what is asked for most stands first.
operations! {
    files::by_path::get_by_path,
    files::by_path::put_by_path,
    files::by_path::put_in_folder,
    files::by_path::put_onto,
    files::nodes::content,
    files::nodes::entries,
    files::nodes::thumbnail,
    files::nodes::facts,
    files::nodes::resolve,
    files::uploads::one_upload,
    files::uploads::begin_upload,
    session::sessions::welcome,
    session::sessions::set_up,
    session::sessions::sign_in,
    session::sessions::sign_out,
    session::devices::list_devices,
    session::devices::connect,
    session::devices::disconnect,
    session::devices::report,
    session::devices::end_device,
    session::client_program::show_client,
    session::client_program::fetch_client,
    session::connections::begin_connection,
    session::connections::collect_connection,
    session::connections::look_at_connection,
    session::connections::answer_connection,
    session::signing::invite,
    session::signing::look_at_invitation,
    session::signing::accept_invitation,
    session::signing::change_password,
    session::signing::list_sessions,
    session::signing::end_session,
    session::proof::prove,
    session::proof::ask_proof,
    people::listing::list_people,
    people::accounts::list_accounts,
    people::accounts::make_account,
    people::accounts::show_account,
    people::accounts::change_account,
    people::accounts::end_session_of,
    people::accounts::end_device_of,
    people::accounts::end_invitation,
    people::groups::list_groups,
    people::groups::show_group,
    people::groups::make_group,
    people::groups::change_group,
    people::groups::end_group,
    session::factors::ask_passkey,
    session::factors::second_step,
    session::factors::list_factors,
    session::factors::begin_codes,
    session::factors::confirm_codes,
    session::factors::begin_passkey,
    session::factors::confirm_passkey,
    session::factors::end_factor,
    session::factors::renew_recovery,
    session::factors::end_factors,
    session::me::show_own,
    session::me::change_own,
    session::me::set_picture,
    session::me::end_picture,
    session::me::show_picture,
    session::me::begin_look,
    session::me::end_look,
    people::guests::invite_guest,
    people::guests::sign_up,
    people::importing::take_list,
    people::plans::apply_plan,
    people::account_removal::show_removal,
    people::account_removal::decide_removal,
    people::account_removal::undo_removal,
    admin::rules::list_rules,
    admin::rules::set_rule,
    admin::mailing::show_mail,
    admin::mailing::test_mail,
    admin::mailing::change_letter,
    sharing::openings::list_openings,
    sharing::openings::make_opening,
    sharing::openings::show_opening,
    sharing::openings::change_opening,
    sharing::openings::draw_opening,
    sharing::openings::mail_opening,
    sharing::openings::list_deliveries,
    sharing::shared_items::list_given,
    sharing::shared_items::change_given,
    sharing::openings::check_address,
    files::shelves::list_shared,
    files::shelves::change_shelf,
    files::shelves::raise,
    files::shelves::lower,
    sharing::rights::show_rights,
    sharing::rights::give_right,
    sharing::rights::end_grant,
    sharing::rights::set_afresh,
    sharing::rights::who_may,
    sharing::rights::why_may,
    files::shelves::list,
    files::shelves::make,
    files::shelves::changes,
    files::nodes::make_folder,
    files::nodes::change,
    files::nodes::move_together,
    files::nodes::copy,
    files::nodes::remove,
    files::locks::take_lock,
    files::locks::end_lock,
    files::nodes::restore,
    files::nodes::history,
    files::nodes::activity,
    files::tree::tree,
    files::tree::levels,
    history::retention::show_trash,
    history::retention::let_go,
    history::retention::show_going,
    history::retention::show_clock,
    admin::store_state::store_state,
    admin::jobs::list_jobs,
    admin::jobs::stop_job,
    admin::jobs::begin_backup,
    admin::slowed::list_slowed,
    admin::slowed::release,
    history::retention::confirm_clock,
    history::retention::name_version,
    history::retention::compare,
    history::snapshots::list_snapshots,
    history::snapshots::take_snapshot,
    history::snapshots::change_snapshot,
    history::snapshots::end_snapshot,
    history::rollbacks::look_at_rollback,
    history::rollbacks::begin_rollback,
    history::rollbacks::list_rollbacks,
    history::rollbacks::show_rollback,
    history::rollbacks::stop_rollback,
    history::rollbacks::undo_rollback,
    history::rollbacks::list_alarms,
    history::rollbacks::settle_alarm,
    admin::space::show_space,
    admin::space::show_folder_space,
    admin::space::list_quotas,
    admin::space::set_quota,
    files::delta::show_chunks,
    files::delta::assemble,
    files::by_path::take_tar,
    files::states::states,
    files::uploads::upload_options,
    files::uploads::list_uploads,
    files::uploads::place_upload,
    files::archives::fetch_folder,
    files::archives::gather,
    files::archives::fetch_gathered,
    files::search::find,
    files::search::recent,
    files::events::events,
}

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
