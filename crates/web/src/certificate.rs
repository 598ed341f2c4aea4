//! Looks at how a server proves who it is: the certificate it shows, for whom and how long it holds, and whether this machine trusts it.

use crate::client::{NoAnswer, roots};
use crate::guard::{Guard, INNER};
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::client::{WebPkiServerVerifier, verify_server_name};
use rustls::crypto::{CryptoProvider, verify_tls12_signature, verify_tls13_signature};
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::server::ParsedCertificate;
use rustls::{
    CertificateError, ClientConfig, ClientConnection, DigitallySignedStruct, RootCertStore, SignatureScheme,
    Stream,
};
use std::io::Write;
use std::net::TcpStream;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;
use time::OffsetDateTime;
use x509_parser::extensions::GeneralName;
use x509_parser::prelude::{FromDer, X509Certificate};

/// What a server's certificate says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Shown {
    /// Host names for which it is.
    pub names: Vec<String>,
    /// Who made it.
    pub issuer: String,
    /// From when it holds.
    pub from: OffsetDateTime,
    /// Until when.
    pub until: OffsetDateTime,
    /// Why this machine does not trust it; nothing if it does.
    pub wrong: Option<String>,
}

/// Says in words why a certificate does not hold.
pub(crate) fn words(why: &CertificateError) -> String {
    match why {
        CertificateError::Expired | CertificateError::ExpiredContext { .. } => "it has expired".into(),
        CertificateError::NotValidYet | CertificateError::NotValidYetContext { .. } => {
            "it does not hold yet".into()
        }
        CertificateError::UnknownIssuer => "nobody whom this machine trusts made it".into(),
        CertificateError::NotValidForName | CertificateError::NotValidForNameContext { .. } => {
            "it is for other names".into()
        }
        CertificateError::Revoked => "it was called back".into(),
        other => other.to_string(),
    }
}

/// Takes any certificate, and remembers the first one.
#[derive(Debug)]
struct Witness {
    provider: Arc<CryptoProvider>,
    chain: Mutex<Vec<CertificateDer<'static>>>,
}

impl ServerCertVerifier for Witness {
    fn verify_server_cert(
        &self,
        own: &CertificateDer<'_>,
        others: &[CertificateDer<'_>],
        _name: &ServerName<'_>,
        _ocsp: &[u8],
        _now: UnixTime,
    ) -> Result<ServerCertVerified, rustls::Error> {
        let all = std::iter::once(own).chain(others).map(|c| c.clone().into_owned()).collect();
        *self.chain.lock().unwrap_or_else(PoisonError::into_inner) = all;
        Ok(ServerCertVerified::assertion())
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        cert: &CertificateDer<'_>,
        dss: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        verify_tls12_signature(message, cert, dss, &self.provider.signature_verification_algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        cert: &CertificateDer<'_>,
        dss: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        verify_tls13_signature(message, cert, dss, &self.provider.signature_verification_algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.provider.signature_verification_algorithms.supported_schemes()
    }
}

/// Looks at the certificate that a host shows.
pub fn look(guard: &Guard, host: &str, port: u16, patience: Duration) -> Result<Shown, NoAnswer> {
    let name = ServerName::try_from(host.to_string()).map_err(|e| NoAnswer::Other(e.to_string()))?;
    let places = guard.addresses(host, port).map_err(|e| match e.to_string() == INNER {
        true => NoAnswer::Inner,
        false => NoAnswer::NoName,
    })?;
    let mut refused = NoAnswer::NoName;
    let mut stream = None;
    for place in places {
        match TcpStream::connect_timeout(&place, patience) {
            Ok(open) => {
                stream = Some(open);
                break;
            }
            Err(e) => refused = NoAnswer::Refused(e.to_string()),
        }
    }
    let mut stream = stream.ok_or(refused)?;
    let io = |e: std::io::Error| NoAnswer::Other(format!("no encrypted connection: {e}"));
    stream.set_read_timeout(Some(patience)).map_err(io)?;
    stream.set_write_timeout(Some(patience)).map_err(io)?;
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let witness = Arc::new(Witness { provider: provider.clone(), chain: Mutex::default() });
    let tls = |e: rustls::Error| NoAnswer::Other(format!("no encrypted connection: {e}"));
    let config = ClientConfig::builder_with_provider(provider.clone())
        .with_safe_default_protocol_versions()
        .map_err(tls)?
        .dangerous()
        .with_custom_certificate_verifier(witness.clone())
        .with_no_client_auth();
    let mut connection = ClientConnection::new(Arc::new(config), name.clone()).map_err(tls)?;
    Stream::new(&mut connection, &mut stream).flush().map_err(io)?;
    while connection.is_handshaking() {
        connection.complete_io(&mut stream).map_err(io)?;
    }
    let chain = witness.chain.lock().unwrap_or_else(PoisonError::into_inner).clone();
    read(&chain, &name, provider)
}

/// Reads what a chain of certificates says, and judges it.
fn read(
    chain: &[CertificateDer<'static>],
    name: &ServerName<'static>,
    provider: Arc<CryptoProvider>,
) -> Result<Shown, NoAnswer> {
    let unreadable = |what: &str| NoAnswer::Other(format!("the certificate cannot be read: {what}"));
    let own = chain.first().ok_or_else(|| unreadable("none was shown"))?;
    let (_, parsed) = X509Certificate::from_der(own).map_err(|e| unreadable(&e.to_string()))?;
    let mut names: Vec<String> = Vec::new();
    if let Ok(Some(alternative)) = parsed.subject_alternative_name() {
        names.extend(alternative.value.general_names.iter().filter_map(|n| match n {
            GeneralName::DNSName(name) => Some(name.to_string()),
            _ => None,
        }));
    }
    if names.is_empty() {
        names.extend(parsed.subject().iter_common_name().filter_map(|n| n.as_str().ok()).map(str::to_string));
    }
    let mut trusted = RootCertStore::empty();
    let own_roots = roots();
    if own_roots.is_empty() {
        trusted.extend(webpki_roots::TLS_SERVER_ROOTS.iter().cloned());
    } else {
        trusted.add_parsable_certificates(own_roots);
    }
    // Without the name first, so that two faults of one certificate are told apart.
    let now = UnixTime::now();
    let wrong = match WebPkiServerVerifier::builder_with_provider(Arc::new(trusted), provider).build() {
        Ok(verifier) => match verifier.verify_server_cert(own, &chain[1..], name, &[], now) {
            Ok(_) => None,
            Err(rustls::Error::InvalidCertificate(why)) => Some(words(&why)),
            Err(other) => Some(other.to_string()),
        },
        Err(e) => Some(e.to_string()),
    };
    let fits = ParsedCertificate::try_from(own).and_then(|c| verify_server_name(&c, name)).is_ok();
    let other_names = words(&CertificateError::NotValidForName);
    let wrong = match wrong {
        Some(why) if !fits && why != other_names => Some(format!("{why}, and {other_names}")),
        wrong => wrong,
    };
    Ok(Shown {
        names,
        issuer: parsed.issuer().to_string(),
        from: parsed.validity().not_before.to_datetime(),
        until: parsed.validity().not_after.to_datetime(),
        wrong,
    })
}
