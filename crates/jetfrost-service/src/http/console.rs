//! The console: files built into the binary.

use actix_web::http::header::{CACHE_CONTROL, CONTENT_SECURITY_POLICY, CONTENT_TYPE};
use actix_web::{HttpRequest, HttpResponse, web};
use rust_embed::RustEmbed;

/// What a page of the console may load: its own files, nothing else.
pub(super) const POLICY: &str = "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data: blob:; font-src 'self'; \
     connect-src 'self'; worker-src 'self'; manifest-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'; object-src 'none'";

/// What the worker may that reads image stores: its own files, and to compile what they bring (Argon2id, BLAKE3, Zstandard). No page may.
const WORKER_POLICY: &str = "default-src 'none'; script-src 'self' 'wasm-unsafe-eval'; connect-src 'self'";
/// How the names of a worker's files begin.
const WORKER: &str = "assets/image.worker-";

#[derive(RustEmbed)]
#[folder = "$OUT_DIR/console"]
struct Files;

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.default_service(web::to(file));
}

/// A file of the console; any other path is one of its pages, which its router finds.
async fn file(request: HttpRequest) -> HttpResponse {
    let path = request.path().trim_start_matches('/');
    match Files::get(path) {
        Some(file) => serve(path, file.data),
        None if path.starts_with("assets/") => HttpResponse::NotFound().finish(),
        None => Files::get("index.html").map_or_else(|| HttpResponse::NotFound().finish(), |file| serve("index.html", file.data)),
    }
}

fn serve(path: &str, data: std::borrow::Cow<'static, [u8]>) -> HttpResponse {
    // Files under assets/ carry a hash of their content in their names.
    let cache = if path.starts_with("assets/") { "public, max-age=31536000, immutable" } else { "no-cache" };
    let kind = mime_guess::from_path(path).first_or_octet_stream();
    let mut response = HttpResponse::Ok();
    response.insert_header((CACHE_CONTROL, cache)).insert_header((CONTENT_TYPE, kind.as_ref()));
    if path.starts_with(WORKER) {
        response.insert_header((CONTENT_SECURITY_POLICY, WORKER_POLICY));
    }
    response.body(data.into_owned())
}
