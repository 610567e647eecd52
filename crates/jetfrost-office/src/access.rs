//! Who may do what. Every decision of the service goes through [`may`].

pub use jetfrost_types::Role;

/// Who asks.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Asker<'a> {
    /// A person who signed in.
    Person {
        /// The account.
        account: &'a str,
        /// Its role.
        role: Role,
        /// Whether it asks with a token that may only see.
        only_sees: bool,
    },
    /// A workstation with its device credential.
    Device {
        /// The workstation.
        workstation: &'a str,
    },
}

/// What is asked for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Act<'a> {
    /// See destinations, accounts, groups, codes and the audit log.
    SeeOffice,
    /// Change any of these; set limits, hold and remove points and image stores.
    ChangeOffice,
    /// See one's own account and its sessions, and end the session that asks.
    SeeSelf,
    /// Change one's own password, second factor, sessions and tokens.
    ChangeSelf,
    /// Make a workstation of a machine of one's own.
    EnrolSelf,
    /// See a workstation, its points and its history.
    SeeWorkstation {
        /// The workstation.
        workstation: &'a str,
        /// Whose it is.
        owner: &'a str,
    },
    /// Read sealed chunks, points and slots of a workstation's store.
    ReadStore {
        /// The workstation.
        workstation: &'a str,
        /// Whose it is.
        owner: &'a str,
    },
    /// Add segments, points and key slots to a workstation's store.
    AddToStore {
        /// The workstation.
        workstation: &'a str,
    },
    /// Take a key slot away from a workstation's store.
    RemoveUnlockMethod {
        /// Whose it is.
        owner: &'a str,
    },
}

/// Whether `asker` may do `act`. What is not allowed here is not allowed. Removing a point or a store is
/// [`Act::ChangeOffice`]: no workstation's credential has it.
#[must_use]
pub fn may(asker: &Asker<'_>, act: &Act<'_>) -> bool {
    match (asker, act) {
        (Asker::Person { only_sees: true, role, account }, act) => {
            let sees = matches!(act, Act::SeeOffice | Act::SeeWorkstation { .. } | Act::SeeSelf);
            sees && may(&Asker::Person { account, role: *role, only_sees: false }, act)
        }
        (Asker::Person { role: Role::Administrator, .. }, Act::AddToStore { .. }) => false,
        (Asker::Person { .. }, Act::SeeSelf | Act::ChangeSelf | Act::EnrolSelf)
        | (Asker::Person { role: Role::Administrator, .. }, _) => true,
        (Asker::Person { role: Role::Helpdesk, .. }, act) => {
            matches!(act, Act::SeeOffice | Act::SeeWorkstation { .. } | Act::ReadStore { .. })
        }
        (
            Asker::Person { account, role: Role::Member, .. },
            Act::SeeWorkstation { owner, .. } | Act::ReadStore { owner, .. } | Act::RemoveUnlockMethod { owner },
        ) => account == owner,
        (
            Asker::Device { workstation: asking },
            Act::SeeWorkstation { workstation, .. } | Act::ReadStore { workstation, .. } | Act::AddToStore { workstation },
        ) => asking == workstation,
        (Asker::Person { .. } | Asker::Device { .. }, _) => false,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const ADMINISTRATOR: Asker<'_> = Asker::Person { account: "head", role: Role::Administrator, only_sees: false };
    const HELPDESK: Asker<'_> = Asker::Person { account: "desk", role: Role::Helpdesk, only_sees: false };
    const ANNA: Asker<'_> = Asker::Person { account: "anna", role: Role::Member, only_sees: false };
    const DEVICE: Asker<'_> = Asker::Device { workstation: "avocet" };

    #[test]
    fn a_token_that_only_sees_never_changes_and_never_reads_a_backup() {
        let sees = Asker::Person { account: "head", role: Role::Administrator, only_sees: true };
        assert!(may(&sees, &Act::SeeOffice) && may(&sees, &Act::SeeWorkstation { workstation: "avocet", owner: "anna" }));
        let read = Act::ReadStore { workstation: "avocet", owner: "anna" };
        for act in [Act::ChangeOffice, Act::ChangeSelf, Act::EnrolSelf, read, Act::RemoveUnlockMethod { owner: "anna" }] {
            assert!(!may(&sees, &act), "{act:?}");
        }
        let member = Asker::Person { account: "anna", role: Role::Member, only_sees: true };
        assert!(!may(&member, &Act::SeeOffice));
    }

    #[test]
    fn the_table_of_rights() {
        let see = Act::SeeWorkstation { workstation: "avocet", owner: "anna" };
        let read = Act::ReadStore { workstation: "avocet", owner: "anna" };
        let add = Act::AddToStore { workstation: "avocet" };
        let table = [
            (Act::SeeOffice, [true, true, false, false]),
            (Act::ChangeOffice, [true, false, false, false]),
            (Act::SeeSelf, [true, true, true, false]),
            (Act::ChangeSelf, [true, true, true, false]),
            (Act::EnrolSelf, [true, true, true, false]),
            (see, [true, true, true, true]),
            (read, [true, true, true, true]),
            (add, [false, false, false, true]),
            (Act::SeeWorkstation { workstation: "dunlin", owner: "ben" }, [true, true, false, false]),
            (Act::ReadStore { workstation: "dunlin", owner: "ben" }, [true, true, false, false]),
            (Act::AddToStore { workstation: "dunlin" }, [false, false, false, false]),
            (Act::RemoveUnlockMethod { owner: "anna" }, [true, false, true, false]),
            (Act::RemoveUnlockMethod { owner: "ben" }, [true, false, false, false]),
        ];
        for (act, expected) in table {
            let found = [ADMINISTRATOR, HELPDESK, ANNA, DEVICE].map(|asker| may(&asker, &act));
            assert_eq!(found, expected, "{act:?}");
        }
    }
}
