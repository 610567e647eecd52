//! Whose workstations may put backups on a destination, and why.

use std::collections::BTreeSet;

/// To whom a destination is open.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Grants {
    /// To all accounts.
    pub everybody: bool,
    /// To these groups.
    pub groups: BTreeSet<String>,
    /// To these accounts.
    pub accounts: BTreeSet<String>,
}

/// Why it is open to an account.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum Reason {
    /// It is open to everybody.
    Everybody,
    /// It is open to this very account.
    Account,
    /// It is open to this group of the account.
    Group(String),
}

impl Grants {
    /// All reasons why it is open to an account that is in `groups`; none when it is not. A role is no reason: whoever
    /// looks after backups does not need to put any there.
    #[must_use]
    pub fn reasons(&self, account: &str, groups: &[String]) -> Vec<Reason> {
        let everybody = self.everybody.then_some(Reason::Everybody);
        let direct = self.accounts.contains(account).then_some(Reason::Account);
        let shared = groups.iter().filter(|group| self.groups.contains(*group)).cloned().map(Reason::Group);
        everybody.into_iter().chain(direct).chain(shared).collect()
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn set(names: &[&str]) -> BTreeSet<String> {
        names.iter().map(|name| (*name).to_owned()).collect()
    }

    #[test]
    fn every_reason_is_told() {
        let groups = ["survey".to_owned(), "office".to_owned()];
        let open = Grants { everybody: true, groups: set(&["office", "harbour"]), accounts: set(&["anna"]) };
        assert_eq!(open.reasons("anna", &groups), [Reason::Everybody, Reason::Account, Reason::Group("office".into())]);
        assert_eq!(open.reasons("ben", &[]), [Reason::Everybody]);
    }

    #[test]
    fn what_was_not_opened_is_open_to_nobody() {
        assert!(Grants::default().reasons("anna", &["office".to_owned()]).is_empty());
    }

    proptest! {
        #[test]
        fn opening_it_further_takes_nothing_away(
            groups in prop::collection::btree_set("[a-d]", 0..4),
            accounts in prop::collection::btree_set("[a-d]", 0..4),
            more in "[a-d]",
            account in "[a-d]",
            own in prop::collection::vec("[a-d]", 0..4),
        ) {
            let open = Grants { everybody: false, groups, accounts };
            let mut wider = open.clone();
            wider.groups.insert(more);
            let kept = wider.reasons(&account, &own);
            prop_assert!(open.reasons(&account, &own).iter().all(|reason| kept.contains(reason)));
        }
    }
}
