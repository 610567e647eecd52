//! The JSON calls, a handler each, by noun. They translate and do nothing else.

use utoipa_actix_web::service_config::ServiceConfig;

/// The routes of a file: its handlers.
macro_rules! serve {
    ($($handler:ident),* $(,)?) => {
        pub(super) fn routes(config: &mut utoipa_actix_web::service_config::ServiceConfig<'_>) {
            $(config.service($handler);)*
        }
    };
}

mod accounts;
mod destinations;
mod diagnosis;
mod enrolment;
mod groups;
mod jobs;
mod orders;
mod restores;
mod roster;
mod runs;
mod schedules;
mod service;
mod sessions;
mod stores;
mod workstations;

pub(super) fn routes(config: &mut ServiceConfig<'_>) {
    accounts::routes(config);
    destinations::routes(config);
    enrolment::routes(config);
    groups::routes(config);
    jobs::routes(config);
    orders::routes(config);
    restores::routes(config);
    roster::routes(config);
    runs::routes(config);
    schedules::routes(config);
    service::routes(config);
    sessions::routes(config);
    stores::routes(config);
    workstations::routes(config);
}
