//! What falls due by itself.

use crate::operations::Operations;
use crate::shared::Result;

impl Operations {
    /// Does what is due by now, and asks for all long work that is.
    pub(crate) fn tend(&self) -> Result<()> {
        self.storage.reconcile()?;
        self.storage.tend_erasures()?;
        self.storage.tend_records_backup()?;
        self.storage.tend_audit()?;
        self.retention.enqueue_all_due()
    }
}
