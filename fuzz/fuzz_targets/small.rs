//! The small structures, and what people type.

use jetfrost_image::format::{OfficeKeyFile, Order, Receipt, RecoveryKey, RunHead, Slot, StoreFile};
use jetfrost_wire::enrolment::Invitation;
use jetfrost_wire::retention::Retention;
use libfuzzer_sys::fuzz_target;

#![no_main]


fuzz_target!(|bytes: &[u8]| {
    let _ = StoreFile::from_bytes(bytes);
    let _ = Slot::from_bytes(bytes);
    if let Ok(receipt) = Receipt::from_bytes(bytes) {
        assert_eq!(Receipt::from_bytes(&receipt.to_bytes()), Ok(receipt));
    }
    if let Ok(order) = Order::from_bytes(bytes) {
        assert_eq!(Order::from_bytes(&order.to_bytes()), Ok(order));
    }
    let _ = OfficeKeyFile::from_bytes(bytes);
    let _ = RunHead::from_bytes(bytes, bytes.len() as u64);
    if let Ok(text) = std::str::from_utf8(bytes) {
        let _ = jetfrost_wire::size::parse(text);
        if let Ok(retention) = text.parse::<Retention>() {
            assert_eq!(retention.to_string().parse(), Ok(retention));
        }
        if let Ok(key) = RecoveryKey::parse(text) {
            assert_eq!(RecoveryKey::parse(&key.to_string()), Ok(key));
        }
        if let Ok(invitation) = Invitation::parse(text) {
            assert_eq!(Invitation::parse(&invitation.to_text()), Ok(invitation));
        }
    }
});
