//! Signing in and out, and what slows guesses down.

use jexlin_api::{ChangePassword, Me, SignIn, SignedIn};
use jexlin_app::App;
use jexlin_app::commands;
use jexlin_app::error::AppError;
use jexlin_core::auth::Channel;
use rocket::http::{Cookie, CookieJar, SameSite};
use rocket::{Route, State, get, post, routes};

use super::payload::{Body, Call, Sent};
use crate::error::ApiResult;
use crate::guards::{COOKIE, Unit, Visitor};

pub fn routes() -> Vec<Route> {
    routes![sign_in, sign_out, me, change_password]
}

/// Reads who is signed in.
#[utoipa::path(operation_id = "auth_me", context_path = "", responses((status = 200, body = Me)))]
#[get("/api/v1/me")]
pub async fn me(mut unit: Unit) -> ApiResult<Sent<Me>> {
    Ok(Sent(commands::auth::me(&mut unit).await?))
}

/// Changes the caller's sign-in password; all their other sessions end.
#[utoipa::path(
    operation_id = "auth_change_password",
    context_path = "",
    request_body = ChangePassword,
    responses((status = 200)),
)]
#[post("/api/v1/me/password", data = "<body>")]
pub async fn change_password(body: Call<ChangePassword>) -> ApiResult<()> {
    let Call(mut unit, body) = body;
    Ok(commands::auth::change_password(&mut unit, body).await?)
}

/// Signs in.
#[utoipa::path(
    operation_id = "auth_sign_in",
    context_path = "",
    request_body = SignIn,
    responses((status = 200, body = SignedIn)),
)]
#[post("/api/v1/sign-in", data = "<body>")]
pub async fn sign_in(
    app: &State<App>,
    body: Body<SignIn>,
    visitor: Visitor,
    cookies: &CookieJar<'_>,
) -> ApiResult<Sent<SignedIn>> {
    let Body(body) = body;
    let console = body.channel == Channel::Console;
    // The console's cookie comes from the console alone: no other site signs its visitor in here.
    if console && !visitor.from_console {
        return Err(AppError::forbidden(
            "A sign-in to the console did not come from the console.",
            "Use the console, or the channel `client`.",
        )
        .into());
    }
    let mut signed_in = commands::auth::sign_in(app, body, &visitor.stranger).await?;
    if console && let Some(token) = signed_in.token.take() {
        let cookie = Cookie::build((COOKIE, token.expose_secret().to_owned()))
            .path("/")
            .http_only(true)
            .same_site(SameSite::Strict)
            .secure(app.config.secure_cookies);
        cookies.add(cookie);
    }
    Ok(Sent(signed_in))
}

/// Signs out; the session ends at once.
#[utoipa::path(operation_id = "auth_sign_out", context_path = "", responses((status = 200)))]
#[post("/api/v1/sign-out")]
pub async fn sign_out(mut unit: Unit, cookies: &CookieJar<'_>) -> ApiResult<()> {
    commands::auth::sign_out(&mut unit).await?;
    cookies.remove(Cookie::build(COOKIE).path("/"));
    Ok(())
}
