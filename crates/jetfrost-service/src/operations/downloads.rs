//! Programs for workstations. Whoever has nothing yet may see and fetch them.

use std::path::PathBuf;

use jetfrost_wire::downloads::Downloads;

use crate::operations::Operations;
use crate::shared::{Result, ServiceError, Thing};

impl Operations {
    pub(crate) fn downloads(&self) -> Result<Downloads> {
        Ok(Downloads { files: self.installation.downloads.list()? })
    }

    /// All hashes, as sha256sum(1) checks them.
    pub(crate) fn download_sums(&self) -> Result<String> {
        Ok(self.installation.downloads.sums()?)
    }

    /// Where the file lies that is listed by this name.
    pub(crate) fn download_path(&self, name: &str) -> Result<PathBuf> {
        self.installation.downloads.path_of(name).ok_or(ServiceError::NotFound(Thing::Path))
    }
}
