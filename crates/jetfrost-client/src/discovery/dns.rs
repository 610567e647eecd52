//! The office's own DNS.

use std::collections::BTreeMap;
use std::time::{Duration, Instant};

use hickory_resolver::proto::rr::{Name, RData, RecordType};
use hickory_resolver::system_conf::read_system_conf;
use hickory_resolver::{Resolver, TokioResolver};
use jetfrost_wire::discovery::SERVICE_TYPE;
use tokio::runtime::Runtime;

use super::{FoundBy, Heard, MOST_FOUND};

/// A name server that is silent for so long is not waited for.
const SILENCE: Duration = Duration::from_secs(2);

fn resolver(patience: Duration) -> Result<(Runtime, TokioResolver), String> {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().map_err(|e| e.to_string())?;
    let mut builder = Resolver::builder_tokio().map_err(|e| format!("DNS is not set up here: {e}"))?;
    builder.options_mut().timeout = patience.min(SILENCE);
    builder.options_mut().attempts = 1;
    let resolver = builder.build().map_err(|e| e.to_string())?;
    Ok((runtime, resolver))
}

/// Asks domains for services: those given, or else this machine's own.
pub(super) fn ask(domains: &[String], patience: Duration) -> Result<Vec<Heard>, String> {
    let domains = if domains.is_empty() { own_domains()? } else { domains.to_vec() };
    let (runtime, resolver) = resolver(patience)?;
    let mut heard = Vec::new();
    for domain in domains {
        let asked = runtime.block_on(async { tokio::time::timeout(patience, services_of(&resolver, &domain)).await });
        // A domain that does not answer has no services to tell of.
        heard.extend(asked.into_iter().flatten());
    }
    Ok(heard)
}

/// The domains that this machine looks names up in.
fn own_domains() -> Result<Vec<String>, String> {
    let (config, _) = read_system_conf().map_err(|e| format!("DNS is not set up here: {e}"))?;
    let mut domains: Vec<String> =
        config.domain().into_iter().chain(config.search()).map(|name| name.to_utf8().trim_end_matches('.').to_owned()).collect();
    domains.retain(|domain| !domain.is_empty());
    domains.sort_unstable();
    domains.dedup();
    Ok(domains)
}

/// PTR, then SRV, TXT and the addresses of each (RFC 6763 sections 4 to 6).
async fn services_of(resolver: &TokioResolver, domain: &str) -> Vec<Heard> {
    let all = format!("{SERVICE_TYPE}.{}.", domain.trim_end_matches('.'));
    let mut heard = Vec::new();
    let Ok(pointers) = resolver.lookup(all, RecordType::PTR).await else { return heard };
    for record in pointers.answers().iter().take(MOST_FOUND) {
        if let RData::PTR(instance) = &record.data
            && let Some(one) = service(resolver, &instance.0, domain).await
        {
            heard.push(one);
        }
    }
    heard
}

async fn service(resolver: &TokioResolver, instance: &Name, domain: &str) -> Option<Heard> {
    let found = resolver.lookup(instance.clone(), RecordType::SRV).await.ok()?;
    let (target, port) = found.answers().iter().find_map(|record| match &record.data {
        RData::SRV(srv) => Some((srv.target.clone(), srv.port)),
        _ => None,
    })?;
    let texts = resolver.lookup(instance.clone(), RecordType::TXT).await.ok()?;
    let mut txt = BTreeMap::new();
    for record in texts.answers() {
        if let RData::TXT(strings) = &record.data {
            let pairs = strings.txt_data.iter().filter_map(|bytes| std::str::from_utf8(bytes).ok()?.split_once('='));
            txt.extend(pairs.map(|(key, value)| (key.to_lowercase(), value.to_owned())));
        }
    }
    let addresses = resolver.lookup_ip(target.clone()).await.map(|found| found.iter().collect()).unwrap_or_default();
    let label = instance.iter().next().unwrap_or_default();
    Some(Heard {
        name: String::from_utf8_lossy(label).into_owned(),
        host: target.to_utf8().trim_end_matches('.').to_owned(),
        port,
        addresses,
        link_local: None,
        txt,
        by: FoundBy::Domain(domain.to_owned()),
        at: Instant::now(),
    })
}

/// Says which names resolve here.
pub(super) struct Names(Option<(Runtime, TokioResolver)>);

impl Names {
    pub(super) fn new() -> Self {
        Self(resolver(SILENCE).ok())
    }

    pub(super) fn has(&self, name: &str) -> bool {
        let Some((runtime, resolver)) = &self.0 else { return false };
        runtime.block_on(resolver.lookup_ip(name)).is_ok_and(|found| found.iter().next().is_some())
    }
}
