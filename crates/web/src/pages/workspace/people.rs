//! Who works in the workspace, what each may do, and how others join.

use actix_web::{HttpRequest, web};
use askama::Template;
use pronoia_service::ServiceError;
use pronoia_service::text;
use pronoia_store::member_role::MemberRole;
use serde::Deserialize;

use crate::App;
use crate::error::html;
use crate::frame::Frame;
use crate::pages::{PageResult, Signed, see_other};
use crate::session::Visitor;

/// The longest note of whom an invitation is for.
const LONGEST_NAME: usize = 80;

#[derive(Template)]
#[template(path = "workspace/people.html")]
struct PeoplePage {
    frame: Frame,
    is_owner: bool,
    members: Vec<MemberLine>,
    invitations: Vec<InvitationLine>,
    roles: [MemberRole; 3],
    /// A link that was just made, shown this once, and whom it is for.
    new_link: Option<(String, String)>,
}

struct MemberLine {
    id: i64,
    email: String,
    role: MemberRole,
    since: String,
    is_self: bool,
    /// Keys that they made and that still open something.
    keys: usize,
}

struct InvitationLine {
    id: i64,
    name: String,
    role: String,
    by: String,
    until: String,
}

/// The page.
pub async fn page(app: web::Data<App>, visitor: Visitor) -> PageResult {
    shown(&app, &visitor, None).await
}

async fn shown(app: &App, visitor: &Visitor, new_link: Option<(String, String)>) -> PageResult {
    let workspace = visitor.workspace_id();
    let keys = app.store.keys_by_maker(workspace).await?;
    let members = app.store.members(workspace).await?.into_iter().map(|member| MemberLine {
        keys: keys.get(&member.account.id).copied().unwrap_or(0),
        id: member.account.id,
        is_self: member.account.id == visitor.account_id(),
        email: member.account.email,
        role: member.role,
        since: text::moment(&member.joined_at),
    });
    // Who is invited is only for those who invite.
    let invited = if visitor.is_owner() { app.store.invitations(workspace).await? } else { Vec::new() };
    let addresses = app.store.addresses(invited.iter().map(|invitation| invitation.invited_by)).await?;
    let invitations = invited.into_iter().map(|invitation| InvitationLine {
        id: invitation.id,
        name: invitation.name,
        role: invitation.role,
        by: addresses.get(&invitation.invited_by).cloned().unwrap_or_default(),
        until: text::moment(&invitation.expires_at),
    });
    html(&PeoplePage {
        frame: Frame::plain(app, visitor).await?,
        is_owner: visitor.is_owner(),
        members: members.collect(),
        invitations: invitations.collect(),
        roles: MemberRole::ALL,
        new_link,
    })
}

/// Who is invited, to do what.
#[derive(Deserialize)]
pub struct Invite {
    csrf: String,
    name: String,
    role: String,
}

/// Makes a link by which somebody joins, and shows it this once.
pub async fn invite(
    app: web::Data<App>,
    visitor: Visitor,
    request: HttpRequest,
    form: web::Form<Invite>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    let name = form.name.trim();
    if name.is_empty() || name.chars().count() > LONGEST_NAME {
        return Err(
            ServiceError::Refused(format!("Give a name for the invitation, of up to {LONGEST_NAME} letters.")).into()
        );
    }
    let role = MemberRole::of(&form.role)?;
    let key = app.store.invite((visitor.workspace_id(), visitor.account_id()), name, role).await?;
    let link = format!("{}/join/{key}", crate::pages::reached_at(&request));
    shown(&app, &visitor, Some((link, name.to_owned()))).await
}

/// Makes a link good for nobody any more.
pub async fn withdraw(
    app: web::Data<App>,
    visitor: Visitor,
    id: web::Path<i64>,
    form: web::Form<Signed>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    app.store.withdraw(visitor.workspace_id(), *id).await?;
    see_other("/people")
}

/// What somebody may do from now on.
#[derive(Deserialize)]
pub struct RoleForm {
    csrf: String,
    /// A role, or `none` for somebody who is not to be here any more.
    role: String,
    /// `yes` if whoever sends this takes over the keys that end.
    #[serde(default)]
    take_over: String,
}

/// Lets a member do more or less, or nothing any more.
pub async fn set_role(
    app: web::Data<App>,
    visitor: Visitor,
    account: web::Path<i64>,
    form: web::Form<RoleForm>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    let role = if form.role == "none" { None } else { Some(MemberRole::of(&form.role)?) };
    let keys_to = Some(visitor.account_id()).filter(|_| form.take_over == "yes");
    app.store.set_role((visitor.workspace_id(), *account), role, keys_to).await?;
    see_other("/people")
}

#[derive(Template)]
#[template(path = "workspace/invitation.html")]
struct Invitation {
    workspace: String,
    role: MemberRole,
    email: String,
    problem: Option<String>,
}

async fn join_page(app: &App, link: &str, (email, problem): (String, Option<String>)) -> PageResult {
    let (invitation, workspace) = app.store.invited(link).await?;
    html(&Invitation { workspace: workspace.name, role: MemberRole::of(&invitation.role)?, email, problem })
}

/// Where a link leads.
pub async fn join(app: web::Data<App>, link: web::Path<String>) -> PageResult {
    join_page(&app, &link, (String::new(), None)).await
}

/// What is typed there.
#[derive(Deserialize)]
pub struct Joining {
    email: String,
    password: String,
}

/// Somebody joins. The link is the proof that the form is theirs: nobody else knows it.
pub async fn accept(app: web::Data<App>, link: web::Path<String>, form: web::Form<Joining>) -> PageResult {
    match app.store.accept(&link, (&form.email, &form.password)).await {
        Ok(()) => see_other("/sign-in"),
        Err(pronoia_store::StoreError::Refused(problem)) => {
            let mut page = join_page(&app, &link, (form.into_inner().email, Some(problem))).await?;
            *page.status_mut() = actix_web::http::StatusCode::UNPROCESSABLE_ENTITY;
            Ok(page)
        }
        Err(other) => Err(other.into()),
    }
}
