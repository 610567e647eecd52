//! The end-to-end tests: the real service on loopback, its real client, its console in headless Chromium. One program, so that it is
//! linked once and its tests run beside each other.

mod agent;
mod api;
mod attacks;
mod audit;
mod being_found;
mod certificates;
mod console;
mod damaged_stores;
mod diagnosis;
mod disks;
mod drills;
mod fidelity;
mod first_hour;
mod fuzzed;
mod http;
mod integrity;
mod interruptions;
mod joining;
mod mail;
mod oracle;
mod outputs;
mod people;
mod places;
mod power_cuts;
mod records_in_trouble;
mod refusals;
mod retention;
mod roles;
mod roster;
mod salvage;
mod selection;
mod setup;
mod standard_clients;
mod two_administrators;
mod unlock_methods;
