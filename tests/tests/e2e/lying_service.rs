//! A service that lies to whoever reads: what it gives is looked at, and what is not what was asked for is refused.

use jetfrost_client::ClientError;
use jetfrost_client::Secret;
use jetfrost_client::at_service::StoreAtService;
use jetfrost_client::browse::At;
use jetfrost_client::restore::{Target, Wish};
use jetfrost_client::salvage::Opening;
use jetfrost_tests::office::{ADMINISTRATOR, Office};
use jetfrost_tests::tap::Tap;
use jetfrost_wire::workstation::PointKind;

#[test]
fn whoever_reads_from_another_machine_is_given_no_older_point_and_no_other_store_by_a_service_that_lies() {
    let office = Office::open();
    office.destination("shelf");
    let (station, other) = (office.workstation("knot"), office.workstation("dunlin"));
    for n in 1..3 {
        station.write("letter", format!("version {n}"));
        station.back_up().expect("backed up");
    }
    let runtime = tokio::runtime::Runtime::new().expect("a runtime");
    let read = |asked: &str, given: &str| {
        let tap = runtime.block_on(Tap::giving_another(office.port(), asked, given));
        let api = office.signed_in_at(&tap.address, ADMINISTRATOR);
        let workstation = station.home.membership().expect("joined").workstation;
        let record = api.get(&format!("/workstations/{workstation}")).expect("there");
        let store = StoreAtService::new(api, &record);
        let keys = store.unlock(&Opening::Secret(Secret::Passphrase(jetfrost_tests::office::PASSPHRASE)))?;
        let browser = store.browse(keys);
        let point = browser.point(&At::Latest, PointKind::Files)?;
        let letter = station.folder.join("letter");
        let into = office.path(&format!("back from {}", point.head.sequence));
        let wish = Wish::paths(vec![letter], Target::Into(into.clone()));
        jetfrost_client::restore::restore(&browser, &point, &wish, &std::sync::Arc::default())?;
        Ok::<_, ClientError>(std::fs::read_to_string(into.join("letter")).expect("there"))
    };
    assert_eq!(read("no such thing", "no such thing").expect("an honest one"), "version 2");
    let older = read("/points/2", "/points/1");
    assert!(matches!(older, Err(ClientError::Damaged)), "{older:?}");
    // The same passphrase opens the other store, too.
    let another = read(&station.store(), &other.store());
    assert!(another.is_err(), "{another:?}");
}
