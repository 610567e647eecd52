//! Stands between a browser and the service and hears everything that the browser sends, inside of TLS.

use std::io;
use std::net::{Ipv4Addr, SocketAddr};
use std::sync::{Arc, Mutex, PoisonError};

use rustls::pki_types::{PrivateKeyDer, ServerName};
use rustls::{ClientConfig, ServerConfig};
use tokio::io::{AsyncReadExt, AsyncWriteExt, copy, split};
use tokio::net::{TcpListener, TcpStream};
use tokio_rustls::{TlsAcceptor, TlsConnector};

use crate::raw::Trusting;

/// What browsers sent so far.
#[derive(Clone, Default)]
struct Heard(Arc<Mutex<Vec<u8>>>);

/// What is asked for, and what is asked for instead.
type Lie = (Vec<u8>, Vec<u8>);

fn put_in_its_place(bytes: &mut [u8], asked: &[u8], given: &[u8]) {
    let places: Vec<usize> = (0..bytes.len()).filter(|at| bytes[*at..].starts_with(asked)).collect();
    for at in places {
        bytes[at..at + given.len()].copy_from_slice(given);
    }
}

/// A listening tap; it ends with the runtime that it was started in.
pub struct Tap {
    /// Where browsers find it, as `https://localhost:port`.
    pub address: String,
    heard: Heard,
}

impl Tap {
    /// Listens, and passes on everything to the service at this port of loopback.
    ///
    /// # Panics
    /// When nothing can be listened on.
    pub async fn before(service: u16) -> Self {
        Self::with(service, None).await
    }

    /// The same, where every request for one thing gets another: with a service behind it that is honest, it is one that lies.
    ///
    /// # Panics
    /// When nothing can be listened on, or the two are not of one length.
    pub async fn giving_another(service: u16, asked: &str, given: &str) -> Self {
        assert_eq!(asked.len(), given.len(), "what a request says of its own length stays so");
        Self::with(service, Some((asked.into(), given.into()))).await
    }

    async fn with(service: u16, lie: Option<Lie>) -> Self {
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let own = rcgen::generate_simple_self_signed(["localhost".to_owned()]).expect("a certificate");
        let key = PrivateKeyDer::try_from(own.signing_key.serialize_der()).expect("a key");
        let server = ServerConfig::builder_with_provider(Arc::clone(&provider))
            .with_safe_default_protocol_versions()
            .and_then(|builder| builder.with_no_client_auth().with_single_cert(vec![own.cert.der().clone()], key));
        let client = ClientConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()
            .expect("versions of TLS")
            .dangerous()
            .with_custom_certificate_verifier(Arc::new(Trusting))
            .with_no_client_auth();
        let acceptor = TlsAcceptor::from(Arc::new(server.expect("a configuration")));
        let connector = TlsConnector::from(Arc::new(client));
        let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, 0)).await.expect("a free port");
        let address = format!("https://localhost:{}", listener.local_addr().expect("an address").port());
        let heard = Heard::default();
        let hearing = heard.clone();
        tokio::spawn(async move {
            while let Ok((browser, _)) = listener.accept().await {
                let (acceptor, connector, hearing, lie) = (acceptor.clone(), connector.clone(), hearing.clone(), lie.clone());
                // A browser that breaks off is its own affair.
                tokio::spawn(async move { drop(pass_on(browser, service, acceptor, connector, hearing, lie).await) });
            }
        });
        Self { address, heard }
    }

    /// Everything that was sent so far.
    #[must_use]
    pub fn heard(&self) -> Vec<u8> {
        self.heard.0.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }
}

async fn pass_on(
    browser: TcpStream,
    service: u16,
    acceptor: TlsAcceptor,
    connector: TlsConnector,
    heard: Heard,
    lie: Option<Lie>,
) -> io::Result<()> {
    let (mut from_browser, mut to_browser) = split(acceptor.accept(browser).await?);
    let upstream = TcpStream::connect(SocketAddr::from((Ipv4Addr::LOCALHOST, service))).await?;
    let name = ServerName::try_from("localhost").expect("a name");
    let (mut from_service, mut to_service) = split(connector.connect(name, upstream).await?);
    let back = tokio::spawn(async move {
        copy(&mut from_service, &mut to_browser).await?;
        to_browser.shutdown().await
    });
    let mut piece = vec![0; 64 << 10];
    loop {
        match from_browser.read(&mut piece).await? {
            0 => break,
            n => {
                heard.0.lock().unwrap_or_else(PoisonError::into_inner).extend(&piece[..n]);
                if let Some((asked, given)) = &lie {
                    put_in_its_place(&mut piece[..n], asked, given);
                }
                to_service.write_all(&piece[..n]).await?;
                to_service.flush().await?;
            }
        }
    }
    to_service.shutdown().await?;
    back.await.map_err(io::Error::other)?
}
