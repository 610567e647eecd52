//! Configuration: flags override variables, variables override the file.

use std::net::SocketAddr;
use std::path::{Path, PathBuf};

use jiff::tz::TimeZone;
use serde::Deserialize;

/// The settings of the service.
#[derive(Debug, Clone)]
pub struct Config {
    /// Records, certificate and key.
    pub state_directory: PathBuf,
    /// Address and port to listen on.
    pub listen: SocketAddr,
    /// The name by which workstations reach the service.
    pub public_name: String,
    /// A certificate of the administrator's own, and its key.
    pub certificate: Option<(PathBuf, PathBuf)>,
    /// Where the office is: days, weeks and months begin by this zone's clocks.
    pub time_zone: TimeZone,
}

/// Settings that may each be left out: the file, and the flags.
#[derive(Debug, Clone, Default, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PartialConfig {
    /// See [`Config::state_directory`].
    pub state_directory: Option<PathBuf>,
    /// See [`Config::listen`].
    pub listen: Option<SocketAddr>,
    /// See [`Config::public_name`].
    pub public_name: Option<String>,
    /// PEM file.
    pub certificate: Option<PathBuf>,
    /// PEM file.
    pub certificate_key: Option<PathBuf>,
    /// A name of the IANA time zone database, such as `Europe/Berlin`.
    pub time_zone: Option<String>,
}

/// Why the settings do not do.
#[derive(Debug, thiserror::Error)]
pub enum ConfigError {
    /// The file could not be read.
    #[error("reading {path}")]
    Read {
        /// Which file.
        path: PathBuf,
        /// What the system said.
        #[source]
        source: std::io::Error,
    },
    /// The file is not right.
    #[error("{path} is not right: {why}")]
    Parse {
        /// Which file.
        path: PathBuf,
        /// What is wrong, with the line.
        why: String,
    },
    /// One of the two is missing.
    #[error("certificate and certificate_key go together: give both or neither")]
    HalfACertificate,
    /// There is no such time zone.
    #[error("there is no time zone '{0}': give a name such as Europe/Berlin, or leave time_zone out for the machine's own")]
    NoSuchTimeZone(String),
}

impl PartialConfig {
    /// Reads a file.
    ///
    /// # Errors
    /// [`ConfigError`] names the line and the key that is wrong.
    pub fn read(path: &Path) -> Result<Self, ConfigError> {
        let text = std::fs::read_to_string(path).map_err(|source| ConfigError::Read { path: path.into(), source })?;
        toml::from_str(&text).map_err(|e| ConfigError::Parse { path: path.into(), why: e.to_string() })
    }

    /// These settings, and those of `other` where there are none.
    #[must_use]
    pub fn or(self, other: Self) -> Self {
        Self {
            state_directory: self.state_directory.or(other.state_directory),
            listen: self.listen.or(other.listen),
            public_name: self.public_name.or(other.public_name),
            certificate: self.certificate.or(other.certificate),
            certificate_key: self.certificate_key.or(other.certificate_key),
            time_zone: self.time_zone.or(other.time_zone),
        }
    }

    /// The settings, completed.
    ///
    /// # Errors
    /// [`ConfigError::HalfACertificate`]; [`ConfigError::NoSuchTimeZone`].
    pub fn complete(self) -> Result<Config, ConfigError> {
        let certificate = match (self.certificate, self.certificate_key) {
            (Some(certificate), Some(key)) => Some((certificate, key)),
            (None, None) => None,
            _ => return Err(ConfigError::HalfACertificate),
        };
        Ok(Config {
            state_directory: self.state_directory.unwrap_or_else(|| "/var/lib/jetfrost".into()),
            listen: self.listen.unwrap_or_else(|| SocketAddr::from(([0, 0, 0, 0], 7410))),
            public_name: self.public_name.unwrap_or_else(host_name),
            certificate,
            time_zone: match self.time_zone {
                Some(name) => TimeZone::get(&name).map_err(|_| ConfigError::NoSuchTimeZone(name))?,
                None => TimeZone::system(),
            },
        })
    }
}

fn host_name() -> String {
    nix::unistd::gethostname().ok().and_then(|name| name.into_string().ok()).unwrap_or_else(|| "localhost".into())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_given_first_goes_first() {
        let flags = PartialConfig { public_name: Some("flag".into()), ..PartialConfig::default() };
        let file: PartialConfig = toml::from_str("public_name = \"file\"\nlisten = \"127.0.0.1:1\"").expect("parses");
        let config = flags.or(file).complete().expect("complete");
        assert_eq!((config.public_name.as_str(), config.listen.port()), ("flag", 1));
    }

    #[test]
    fn an_unknown_key_is_refused() {
        assert!(toml::from_str::<PartialConfig>("listn = \"127.0.0.1:1\"").is_err());
    }

    #[test]
    fn half_a_certificate_is_refused() {
        let half = PartialConfig { certificate: Some("a.pem".into()), ..PartialConfig::default() };
        assert!(matches!(half.complete(), Err(ConfigError::HalfACertificate)));
    }

    #[test]
    fn a_time_zone_that_does_not_exist_is_refused() {
        let zone = |name: &str| PartialConfig { time_zone: Some(name.into()), ..PartialConfig::default() }.complete();
        assert!(zone("Europe/Berlin").is_ok());
        assert!(matches!(zone("Europe/Skerry"), Err(ConfigError::NoSuchTimeZone(_))));
    }
}
