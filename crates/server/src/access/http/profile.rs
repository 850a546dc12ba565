//! A member's own profile.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use gubernum_api::Problem;
use gubernum_api::members::Profile;
use jiff::tz::TimeZone;

use crate::access::http::members::found;
use crate::access::{AccessContext, CallerState, Identity, RightsChanged};
use crate::web::extract::Body;
use crate::web::problem::ApiError;

/// The longest name that a member calls itself by, in characters.
const LONGEST_NAME: usize = 80;
/// The longest address of a page.
const LONGEST_PAGE: usize = 200;
/// The most pages with filters of their own, and the longest of them.
const MOST_FILTERS: usize = 20;
const LONGEST_FILTER: usize = 500;

fn is_page(path: &str) -> bool {
    // Two slashes would lead to another host.
    let plain = path.chars().all(|c| c.is_ascii_graphic() && c != '\\');
    path.starts_with('/') && !path.starts_with("//") && path.len() <= LONGEST_PAGE && plain
}

fn check(profile: &Profile) -> Result<(), ApiError> {
    let name = &profile.display_name;
    if name.chars().count() > LONGEST_NAME || name.chars().any(char::is_control) {
        let text = format!("a display name has up to {LONGEST_NAME} characters, on one line");
        return Err(ApiError::invalid("/display_name", text));
    }
    if let Some(zone) = &profile.time_zone
        && (zone.len() > 64 || TimeZone::get(zone).is_err())
    {
        let text = "unknown time zone; use an IANA name such as Europe/Vienna, or leave it out";
        return Err(ApiError::invalid("/time_zone", text));
    }
    if !profile.start_page.is_empty() && !is_page(&profile.start_page) {
        let text = "the start page is a path of the console, such as /containers";
        return Err(ApiError::invalid("/start_page", text));
    }
    if profile.filters.len() > MOST_FILTERS {
        return Err(ApiError::invalid("/filters", format!("at most {MOST_FILTERS} pages")));
    }
    for (page, query) in &profile.filters {
        let is_line = query.chars().all(|c| c.is_ascii_graphic());
        if !is_page(page) || query.len() > LONGEST_FILTER || !is_line {
            let text = format!(
                "filters are the path of a page, and what stands after the '?' of its address: up to {LONGEST_FILTER} characters"
            );
            return Err(ApiError::invalid("/filters", text));
        }
    }
    Ok(())
}

async fn of(context: &AccessContext, member_id: i64) -> Result<Profile, ApiError> {
    let text = context.db.run(move |store| store.profile(member_id)).await?.unwrap_or_default();
    // What cannot be read is as it was at first: these settings only make things nicer.
    let kept: Profile = serde_json::from_str(&text).unwrap_or_default();
    let (member, _) = found(context, member_id).await?;
    Ok(Profile { display_name: member.display_name, works_as: member.works_as, ..kept })
}

/// One's own profile.
#[utoipa::path(get, path = "/api/v1/profile", tag = "members", operation_id = "profile", responses(
    (status = 200, body = Profile),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn show(
    State(context): State<Arc<AccessContext>>,
    who: Identity,
) -> Result<Json<Profile>, ApiError> {
    Ok(Json(of(&context, who.member_id).await?))
}

/// Replaces one's profile; what is left out is set to its default.
#[utoipa::path(put, path = "/api/v1/profile", tag = "members", operation_id = "set_profile", request_body = Profile, responses(
    (status = 200, body = Profile),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn set(
    State(context): State<Arc<AccessContext>>,
    who: Identity,
    Body(new): Body<Profile>,
) -> Result<Json<Profile>, ApiError> {
    check(&new)?;
    let (member, roles) = found(&context, who.member_id).await?;
    let is_other = member.works_as != new.works_as;
    if let Some(role) = &new.works_as
        && !roles.iter().any(|known| known.name == *role)
    {
        return Err(ApiError::invalid("/works_as", "no such role"));
    }
    if is_other && member.works_as.is_some() && !matches!(who.standing, CallerState::SteppedUp(_)) {
        // Otherwise lesser rights would hold nobody back.
        let text = "step up first, to change or end working with fewer rights";
        return Err(ApiError::new("step-up-needed", "Step up first", 403, text).at("/works_as"));
    }
    let (kept, now) = (new.clone(), context.clock.now());
    let asked = who.clone();
    context
        .db
        .run(move |store| {
            let Profile { display_name, works_as, .. } = kept.clone();
            let rest = Profile { display_name: String::new(), works_as: None, ..kept };
            let rest = serde_json::to_string(&rest).unwrap_or_default();
            store.set_profile(asked.member_id, &display_name, works_as.as_deref(), &rest)?;
            if is_other {
                let words = |role: &Option<String>| role.clone().unwrap_or_else(|| "all rights".to_owned());
                let outcome = format!("{} → {}", words(&member.works_as), words(&works_as));
                store.audit(asked.entry("set-works-as", &member.name, &outcome), now)?;
            }
            Ok(())
        })
        .await?;
    if is_other {
        context.rights.tell(RightsChanged::Of(who.member_id));
    }
    Ok(Json(new))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("/containers", true)]
    #[case("/hosts/packhouse?tab=disk", true)]
    #[case("//elsewhere.example", false)]
    #[case("/\\elsewhere.example", false)]
    #[case("javascript:alert(1)", false)]
    #[case("/a b", false)]
    fn a_start_page_stays_here(#[case] path: &str, #[case] fine: bool) {
        assert_eq!(is_page(path), fine);
    }

    #[rstest]
    #[case(Profile { time_zone: Some("Europe/Vienna".into()), ..Profile::default() }, true)]
    #[case(Profile { time_zone: Some("Tarn/Valley".into()), ..Profile::default() }, false)]
    #[case(Profile { display_name: "Mara\nadmin".into(), ..Profile::default() }, false)]
    #[case(Profile { filters: [("/containers".to_owned(), "state=exited".to_owned())].into(), ..Profile::default() }, true)]
    #[case(Profile { filters: [("containers".to_owned(), String::new())].into(), ..Profile::default() }, false)]
    fn what_is_invalid_is_refused(#[case] profile: Profile, #[case] fine: bool) {
        assert_eq!(check(&profile).is_ok(), fine);
    }
}
