//! Sessions, tokens, and the caller's own account.

use actix_web::cookie::{Cookie, SameSite};
use actix_web::web::{Data, Json, Path};
use actix_web::{HttpRequest, HttpResponse, delete, get, post, put};
use jetfrost_types::SessionId;
use jetfrost_wire::people::{Account, OwnPassword, PasswordSet};
use jetfrost_wire::service::{
    Carry, ConfirmSecondFactor, EndSecondFactor, IssuedToken, NewToken, SecondFactorOffer, Session, SessionsEnded, SignIn,
    SignedIn, SpareCodes,
};
use jetfrost_wire::{Page, Problem};

use super::super::credential::{COOKIE, origin};
use super::super::{App, Reply, Trouble};
use crate::shared::Credential;

serve!(
    sign_in,
    me,
    sign_out,
    end_session,
    end_other_sessions,
    add_token,
    set_own_password,
    offer_second_factor,
    confirm_second_factor,
    end_second_factor,
    sessions,
);

/// Signs in. The session is carried in a cookie or in a bearer token.
#[utoipa::path(tag = "sessions", request_body = SignIn, responses((status = 200, body = SignedIn), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/sessions")]
async fn sign_in(app: Data<App>, request: HttpRequest, body: Json<SignIn>) -> Result<HttpResponse, Trouble> {
    let (origin, carry) = (origin(&request), body.carry);
    let mut signed_in = app.run(move |services| services.identity.sign_in(&body, &origin)).await?;
    let mut response = HttpResponse::Ok();
    if carry == Carry::Cookie {
        let secret = signed_in.token.take().unwrap_or_default();
        response.cookie(session_cookie(secret));
    }
    Ok(response.json(signed_in))
}

fn session_cookie(secret: String) -> Cookie<'static> {
    Cookie::build(COOKIE, secret).path("/").secure(true).http_only(true).same_site(SameSite::Strict).finish()
}

/// Who is signed in.
#[utoipa::path(tag = "sessions", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Account), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/sessions/current")]
async fn me(app: Data<App>, credential: Credential) -> Reply<Account> {
    Ok(Json(app.for_caller(credential, |services, caller| services.identity.me(caller)).await?))
}

/// Signs out.
#[utoipa::path(tag = "sessions", security(("bearer" = []), ("cookie" = [])), responses((status = 204), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[delete("/sessions/current")]
async fn sign_out(app: Data<App>, credential: Credential) -> Result<HttpResponse, Trouble> {
    app.for_caller(credential, |services, caller| services.identity.sign_out(caller)).await?;
    let mut gone = session_cookie(String::new());
    gone.make_removal();
    Ok(HttpResponse::NoContent().cookie(gone).finish())
}

/// Ends one of the caller's own sessions or tokens.
#[utoipa::path(tag = "sessions", params(("id" = String, Path)), security(("bearer" = []), ("cookie" = [])), responses((status = 204), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[delete("/sessions/{id}")]
async fn end_session(app: Data<App>, credential: Credential, id: Path<SessionId>) -> Result<HttpResponse, Trouble> {
    app.for_caller(credential, move |services, caller| services.identity.end_session(caller, &id)).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Ends all of the caller's other sessions and tokens.
#[utoipa::path(tag = "sessions", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = SessionsEnded), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[delete("/sessions")]
async fn end_other_sessions(app: Data<App>, credential: Credential) -> Reply<SessionsEnded> {
    Ok(Json(app.for_caller(credential, |services, caller| services.identity.end_other_sessions(caller)).await?))
}

/// Makes a token for a program.
#[utoipa::path(tag = "sessions", request_body = NewToken, security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = IssuedToken), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/tokens")]
async fn add_token(app: Data<App>, credential: Credential, body: Json<NewToken>) -> Reply<IssuedToken> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.identity.add_token(caller, &body)).await?))
}

/// Changes the caller's own password.
#[utoipa::path(tag = "sessions", request_body = OwnPassword, security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = PasswordSet), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[put("/sessions/current/password")]
async fn set_own_password(app: Data<App>, credential: Credential, body: Json<OwnPassword>) -> Reply<PasswordSet> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.identity.set_own_password(caller, &body)).await?))
}

/// Offers a secret for the caller's authenticator.
#[utoipa::path(tag = "sessions", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = SecondFactorOffer), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/sessions/current/second-factor")]
async fn offer_second_factor(app: Data<App>, credential: Credential) -> Reply<SecondFactorOffer> {
    Ok(Json(app.for_caller(credential, |services, caller| services.identity.offer_second_factor(caller)).await?))
}

/// Confirms the caller's authenticator; from now on signing in requires its code.
#[utoipa::path(tag = "sessions", request_body = ConfirmSecondFactor, security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = SpareCodes), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[put("/sessions/current/second-factor")]
async fn confirm_second_factor(app: Data<App>, credential: Credential, body: Json<ConfirmSecondFactor>) -> Reply<SpareCodes> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.identity.confirm_second_factor(caller, &body)).await?))
}

/// Ends the caller's own second factor.
#[utoipa::path(tag = "sessions", request_body = EndSecondFactor, security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Account), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[post("/sessions/current/second-factor/end")]
async fn end_second_factor(app: Data<App>, credential: Credential, body: Json<EndSecondFactor>) -> Reply<Account> {
    Ok(Json(app.for_caller(credential, move |services, caller| services.identity.end_second_factor(caller, &body)).await?))
}

/// The caller's own sessions and tokens, most recently used first.
#[utoipa::path(tag = "sessions", security(("bearer" = []), ("cookie" = [])), responses((status = 200, body = Page<Session>), (status = "default", body = Problem, content_type = "application/problem+json")))]
#[get("/sessions")]
async fn sessions(app: Data<App>, credential: Credential) -> Reply<Page<Session>> {
    Ok(Json(Page { items: app.for_caller(credential, |services, caller| services.identity.sessions(caller)).await?, next: None }))
}
