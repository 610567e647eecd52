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
                let (acceptor, connector, hearing) = (acceptor.clone(), connector.clone(), hearing.clone());
                // A browser that breaks off is its own affair.
                tokio::spawn(async move { drop(pass_on(browser, service, acceptor, connector, hearing).await) });
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
                to_service.write_all(&piece[..n]).await?;
                to_service.flush().await?;
            }
        }
    }
    to_service.shutdown().await?;
    back.await.map_err(io::Error::other)?
}
