//! People from outside: guests who are invited, and those who sign up themselves.

use crate::dto::directory::Directory;
use crate::dto::grants::gives;
use crate::http::body::Json;
use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::http::times;
use crate::identity::address::{address, from};
use crate::identity::invitations::{invitation, mail_invitation};
use crate::identity::origin::check_origin;
use crate::mail::compose::Letter;
use crate::state::State;
use crate::state::sessions::Who;
use actix_web::{HttpRequest, HttpResponse, post, web};
use yellow_attic_api as api;
use yellow_attic_core::forwarded::counted;
use yellow_attic_core::guessing::By;
use yellow_attic_core::proof::Deed;
use yellow_attic_core::rights::{Gives, Level, Subject};
use yellow_attic_core::rules::{Rule, Value};
use yellow_attic_core::{NodeId, password};
use yellow_attic_store::Actor;
use yellow_attic_store::ops::grants::NewGrant;
use yellow_attic_store::people::accounts::{Account, NewPerson, Role};

/// A sign-in name made from a mail address: free, and such as can be.
pub fn name_for(mail: &str, taken: impl Fn(&str) -> bool) -> String {
    let local = mail.split('@').next().unwrap_or_default().to_lowercase();
    let plain: String = local
        .chars()
        .filter(|c| c.is_ascii_alphanumeric() || matches!(c, '.' | '-' | '_'))
        .take(40)
        .collect();
    let plain = plain.trim_start_matches(['.', '-', '_']);
    let base = if plain.is_empty() { "guest" } else { plain };
    let all = std::iter::once(base.to_string()).chain((2..).map(|n| format!("{base}-{n}")));
    all.into_iter().find(|name| !taken(name)).unwrap_or_default()
}

/// Invites somebody by mail address to a file or folder: an account of a guest is made, if there is
/// none with this address, and the right is given to it.
#[utoipa::path(context_path = "/api/v1", tag = "people", request_body = api::NewGuest,
    responses((status = 201, body = api::GuestInvited), (status = 400, body = api::Problem), (status = 403, body = api::Problem), (status = 404, body = api::Problem)))]
#[post("/guests")]
pub async fn invite_guest(
    state: web::Data<State>,
    who: Who,
    body: Json<api::NewGuest>,
) -> Result<HttpResponse, Refusal> {
    let to = body.mail.trim().to_string();
    if !password::check_mail(&to) {
        return Err(refusals::MAIL_MALFORMED.of(&format!("\"{to}\" is no mail address.")));
    }
    let gives = gives(&body.can)?;
    if !matches!(gives, Gives::Allow(Level::View | Level::Add | Level::Edit)) {
        return Err(refusals::LEVEL_CANNOT_BE.of("A guest may view, add or edit."));
    }
    let until = body.until.as_deref().map(times::wanted).transpose()?;
    let node = NodeId(body.node);
    let chain = state.engine.files().chain(&who.actor, node, Level::Manage).await?;
    let shelf = state.engine.sharing().shelf_at(node).await?.map(|s| s.id);
    let allowed = state.engine.people().rules_of(who.account.id, |rules, groups| {
        rules.decide_on(Rule::GuestsInvited, groups, shelf).value == Value::Switch(true)
            && rules.decide_on(Rule::KeptInside, groups, shelf).value == Value::Switch(false)
    });
    if !allowed || who.account.role == Role::Guest {
        return Err(refusals::GUESTS_NOT_INVITED
            .of("A rule says that you may not invite people from outside to this."));
    }
    who.need(&state, Deed::InviteGuest)?;
    let (account, made) = match state.engine.people().account_at(&to).await? {
        Some(there) if there.disabled_at.is_some() => {
            return Err(refusals::ACCOUNT_DISABLED
                .of("There is an account with this address, and it is disabled.")
                .status(409));
        }
        Some(there) => (there, false),
        None => {
            let all = Directory::read(&state).await?;
            let name = name_for(&to, |n| all.account(n).is_ok());
            let shown = Some(body.display_name.trim()).filter(|n| !n.is_empty()).unwrap_or(&to);
            let named = NewPerson::named(&name, shown, Role::Guest, "");
            let new = NewPerson { mail: Some(to.clone()), invited_by: Some(who.account.id), ..named };
            let made = state.engine.people().make_person(&who.actor, new).await?;
            state.names.forget().await;
            (made, true)
        }
    };
    let grant = NewGrant {
        node,
        subject: Subject::Account(account.id),
        gives,
        until,
        message: body.message.trim().to_string(),
    };
    state.engine.grants().give(&who.actor, grant).await?;
    let what = chain[0].name().to_string();
    let mut told = api::GuestInvited { sign_in: account.sign_in.clone(), made, address: None, mailed: false };
    // The way to choose a password is handed out for one's own guests only: the account of somebody else
    // who has not come yet would be taken over by it.
    let own_guest = account.role == Role::Guest && account.invited_by == Some(who.account.id);
    if account.password.is_empty() && own_guest {
        let (address, _) = invitation(&state, &who.actor, &account).await?;
        told.mailed = tell_guest(&state, &who, &account, &what, &body.message, &address).await?;
        told.address = Some(address);
    } else {
        let address = state.base();
        told.mailed = tell_guest(&state, &who, &account, &what, &body.message, &address).await?;
    }
    Ok(HttpResponse::Created().json(told))
}

async fn tell_guest(
    state: &State,
    who: &Who,
    account: &Account,
    what: &str,
    message: &str,
    address: &str,
) -> Result<bool, Refusal> {
    let Some(to) = &account.mail else { return Ok(false) };
    let mut paragraphs = vec![
        format!("Hello {},", account.display_name),
        format!("{} shares \"{what}\" with you.", who.account.display_name),
    ];
    if !message.trim().is_empty() {
        paragraphs.push(message.trim().to_string());
    }
    let open = match address.contains("/welcome#") {
        true => {
            paragraphs.push(format!("Choose a password at the address below, then sign in as \"{}\" or with this mail address. The address counts once, for seven days.", account.sign_in));
            "Choose a password"
        }
        false => "Open it",
    };
    let says = Letter {
        kind: "guest invitation",
        to,
        subject: format!("{} shares something with you", who.account.display_name),
        paragraphs,
        open: Some((open, address.to_string())),
    };
    Ok(crate::state::letters::write(state, &who.actor, says).await?)
}

/// Asks for an account, where a rule lets people of a mail domain sign up. The way to choose a
/// password is sent to the address; the answer is the same whether it is known or not.
#[utoipa::path(context_path = "/api/v1", tag = "sign-in", request_body = api::SignUp,
    responses((status = 202), (status = 400, body = api::Problem), (status = 403, body = api::Problem), (status = 409, body = api::Problem), (status = 429, body = api::Problem)))]
#[post("/sign-up")]
pub async fn sign_up(
    request: HttpRequest,
    state: web::Data<State>,
    body: Json<api::SignUp>,
) -> Result<HttpResponse, Refusal> {
    if request.headers().contains_key("origin") {
        check_origin(&request, &state)?;
    }
    let to = body.mail.trim().to_lowercase();
    let domain = to.rsplit_once('@').map(|(_, d)| d.to_string()).unwrap_or_default();
    let rules = state.engine.people().rules();
    let open = match rules.decide(Rule::SignUpDomains, &[]).value {
        Value::Words(words) => password::check_mail(&to) && words.contains(&domain),
        _ => false,
    };
    if !open || !state.post.is_set() {
        return Err(refusals::SIGN_UP_CLOSED.of("Nobody can sign up here with this mail address."));
    }
    // Each request sends a letter: they are slowed like wrong passwords.
    let by = vec![By::Act("sign-up", address(&request, &state).map(counted)), By::All];
    drop(state.guessing.begin(&state.engine, by).await?);
    let sign_in = body.sign_in.trim().to_lowercase();
    let actor = Actor {
        account: None,
        device: None,
        who: "sign-up".into(),
        from: from(&request, &state).into(),
        through: None,
        scope: None,
        tokens: Default::default(),
    };
    if let Some(there) = state.engine.people().account_at(&to).await? {
        let says = Letter {
            kind: "sign-up",
            to: &to,
            subject: "you have an account".into(),
            paragraphs: vec![
                format!("Hello {},", there.display_name),
                format!(
                    "somebody asked for an account with this address. There is one already: \"{}\".",
                    there.sign_in
                ),
            ],
            open: Some(("Sign in", state.base())),
        };
        crate::state::letters::write(&state, &actor, says).await?;
        return Ok(HttpResponse::Accepted().finish());
    }
    let waits = rules.on(Rule::SignUpApproval, &[]);
    let named = NewPerson::named(&sign_in, body.display_name.trim(), Role::Member, "");
    let account =
        state.engine.people().make_person(&actor, NewPerson { mail: Some(to), waits, ..named }).await?;
    state.names.forget().await;
    if waits {
        tell_administrators(&state, &actor, &account).await?;
    } else {
        let (address, expires) = invitation(&state, &actor, &account).await?;
        mail_invitation(&state, &actor, &account, &address, expires).await?;
    }
    Ok(HttpResponse::Accepted().finish())
}

async fn tell_administrators(state: &State, actor: &Actor, account: &Account) -> Result<(), Refusal> {
    for admin in state.engine.people().accounts().await? {
        let Some(to) = admin.mail.as_deref().filter(|_| admin.disabled_at.is_none()) else { continue };
        if admin.role != Role::Administrator {
            continue;
        }
        let says = Letter {
            kind: "sign-up",
            to,
            subject: format!("{} asks for an account", account.display_name),
            paragraphs: vec![format!(
                "{} ({}) asks for an account named \"{}\". It waits until an administrator enables it; \
                 then the way to choose a password is sent.",
                account.display_name,
                account.mail.as_deref().unwrap_or_default(),
                account.sign_in
            )],
            open: Some(("Look at it", format!("{}/desk/people", state.base()))),
        };
        crate::state::letters::write(state, actor, says).await?;
    }
    Ok(())
}
