//! The set-up list: what is decided, what is not, and whose move it is. Nothing is ready before all of it is.

pub use jetfrost_types::Step;

/// Whether somebody may decide to leave a step as it is. Without the others no backup is made, or none was shown to restore.
#[must_use]
pub fn can_be_dismissed(step: Step) -> bool {
    match step {
        Step::Encryption
        | Step::Limits
        | Step::OfficeKey
        | Step::Protection
        | Step::SecondFactor
        | Step::Discovery
        | Step::Mail => true,
        Step::Storage
        | Step::People
        | Step::Access
        | Step::Maintenance
        | Step::FirstMachine
        | Step::FirstPoint
        | Step::FirstDrill => false,
    }
}

/// Whether the next move is at a workstation.
#[must_use]
pub fn is_at_a_workstation(step: Step) -> bool {
    matches!(step, Step::FirstMachine | Step::FirstPoint | Step::FirstDrill)
}

/// What is known of an office.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct OfficeFacts {
    /// Destinations, withdrawn ones left out.
    pub destinations: u64,
    /// Those of them that are missing, or another's.
    pub missing: u64,
    /// Those that are open to somebody.
    pub open: u64,
    /// Accounts that are no administrator's.
    pub people: u64,
    /// Limits, quotas and capacities that are set.
    pub limits: u64,
    /// Whether there is an office key.
    pub office_key: bool,
    /// Whether a young copy of the records is on some destination.
    pub protected: bool,
    /// Administrators without a second factor.
    pub single_factor: u64,
    /// Whether new backups are accepted.
    pub accepting_backups: bool,
    /// Workstations that a machine has.
    pub workstations: u64,
    /// Those of them without a complete point.
    pub pointless: u64,
    /// Image stores of which a point came back in a drill.
    pub drilled: u64,
    /// Destinations that may hold image stores which are not encrypted.
    pub encryption_optional: u64,
    /// Image stores that are not encrypted.
    pub unencrypted: u64,
    /// Whether the service announces itself.
    pub announced: bool,
    /// Whether it is decided where mail goes.
    pub mail_set: bool,
    /// Whether the mail server took the last message.
    pub mail_taken: bool,
}

/// Whether a step is done.
#[must_use]
pub fn is_done(step: Step, facts: &OfficeFacts) -> bool {
    match step {
        Step::Storage => facts.destinations > 0 && facts.missing == 0,
        Step::People => facts.people > 0,
        Step::Encryption => facts.encryption_optional == 0 && facts.unencrypted == 0,
        Step::Access => facts.open > 0,
        Step::Limits => facts.limits > 0,
        Step::OfficeKey => facts.office_key,
        Step::Protection => facts.protected,
        Step::SecondFactor => facts.single_factor == 0,
        Step::Discovery => facts.announced,
        Step::Mail => facts.mail_set && facts.mail_taken,
        Step::Maintenance => facts.accepting_backups,
        Step::FirstMachine => facts.workstations > 0,
        Step::FirstPoint => facts.workstations > 0 && facts.pointless == 0,
        Step::FirstDrill => facts.drilled > 0,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn ready() -> OfficeFacts {
        OfficeFacts {
            destinations: 1,
            missing: 0,
            open: 1,
            people: 3,
            limits: 1,
            office_key: true,
            protected: true,
            single_factor: 0,
            accepting_backups: true,
            workstations: 2,
            pointless: 0,
            drilled: 1,
            encryption_optional: 0,
            unencrypted: 0,
            announced: true,
            mail_set: true,
            mail_taken: true,
        }
    }

    #[test]
    fn nothing_is_done_in_an_empty_office_and_everything_in_one_that_is_ready() {
        let empty = OfficeFacts { single_factor: 1, encryption_optional: 1, ..OfficeFacts::default() };
        assert!(Step::ALL.iter().all(|step| !is_done(*step, &empty)));
        assert!(Step::ALL.iter().all(|step| is_done(*step, &ready())));
    }

    #[test]
    fn each_thing_that_is_missing_opens_its_step_and_no_other() {
        for (facts, step) in [
            (OfficeFacts { missing: 1, ..ready() }, Step::Storage),
            (OfficeFacts { open: 0, ..ready() }, Step::Access),
            (OfficeFacts { unencrypted: 1, ..ready() }, Step::Encryption),
            (OfficeFacts { announced: false, ..ready() }, Step::Discovery),
            (OfficeFacts { mail_taken: false, ..ready() }, Step::Mail),
            (OfficeFacts { limits: 0, ..ready() }, Step::Limits),
            (OfficeFacts { single_factor: 1, ..ready() }, Step::SecondFactor),
            (OfficeFacts { pointless: 1, ..ready() }, Step::FirstPoint),
            (OfficeFacts { drilled: 0, ..ready() }, Step::FirstDrill),
        ] {
            let open: Vec<Step> = Step::ALL.iter().copied().filter(|step| !is_done(*step, &facts)).collect();
            assert_eq!(open, [step]);
        }
    }

    #[test]
    fn what_a_backup_cannot_do_without_cannot_be_settled() {
        assert!(![Step::Storage, Step::Access, Step::FirstPoint, Step::FirstDrill].into_iter().any(can_be_dismissed));
    }
}
