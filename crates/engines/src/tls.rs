//! TLS for families whose driver leaves it to us: the authorities to trust, the client's own certificate,
//! and whether the server has to prove its name (RFC 6125).

use std::sync::Arc;

use tokio::io::{AsyncRead, AsyncWrite};
use tokio_rustls::TlsConnector;
use tokio_rustls::client::TlsStream;
use tokio_rustls::rustls::client::danger::{
    HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier,
};
use tokio_rustls::rustls::client::{VerifierBuilderError, WebPkiServerVerifier};
use tokio_rustls::rustls::crypto::{
    CryptoProvider, ring, verify_tls12_signature, verify_tls13_signature,
};
use tokio_rustls::rustls::pki_types::pem::PemObject;
use tokio_rustls::rustls::pki_types::{CertificateDer, PrivateKeyDer, ServerName, UnixTime};
use tokio_rustls::rustls::{
    CertificateError, ClientConfig, DigitallySignedStruct, Error, ProtocolVersion, RootCertStore,
    SignatureScheme,
};

use crate::address::Address;
use crate::engine::Proof;
use crate::trouble::{OpenError, Trouble};

/// The version that was agreed on, in words.
pub(crate) fn version_in_words(version: Option<ProtocolVersion>) -> String {
    match version {
        Some(ProtocolVersion::TLSv1_3) => "TLS 1.3",
        _ => "TLS 1.2",
    }
    .into()
}

/// An error of TLS in words.
pub(crate) fn trouble(host: &str, said: &str) -> OpenError {
    let lower = said.to_lowercase();
    let (headline, check) = if lower.contains("unknownissuer") || lower.contains("unknown issuer") {
        (
            format!(
                "The server's certificate is not from an authority that is trusted here, so whether it is {host} is not known."
            ),
            "If the authority is your own, name its file: tls-authority=FILE in the address. tls=require would encrypt without proof.",
        )
    } else if lower.contains("notvalidforname") || lower.contains("not valid for name") {
        (
            format!("The server's certificate is not for the name {host}."),
            "Use the name that the certificate is for, or check whether something else answers there. tls=authority in the address takes any name that your authority vouches for.",
        )
    } else if lower.contains("expired") {
        (
            "The server's certificate has expired.".to_string(),
            "Whoever runs the server renews it; check this machine's clock too.",
        )
    } else {
        (
            format!("The encryption with {host} could not be set up."),
            "Check that the server speaks TLS on this port; tls= in the address says what is asked for.",
        )
    };
    OpenError {
        trouble: Trouble::Tls,
        headline,
        checks: vec![check.into()],
        said: Some(said.to_string()),
    }
}

fn file_trouble(path: &std::path::Path, error: impl std::fmt::Display) -> OpenError {
    OpenError {
        trouble: Trouble::Tls,
        headline: format!("{} cannot be read as PEM.", path.display()),
        checks: vec![
            "It has to be the file that tls-authority, tls-certificate or tls-key names.".into(),
        ],
        said: Some(error.to_string()),
    }
}

/// The certificates of authorities to trust.
pub(crate) fn authorities(address: &Address) -> Result<Vec<CertificateDer<'static>>, OpenError> {
    let Some(path) = &address.tls.authority else {
        return Ok(rustls_native_certs::load_native_certs().certs);
    };
    let certificates: Result<Vec<_>, _> = CertificateDer::pem_file_iter(path)
        .map_err(|error| file_trouble(path, error))?
        .collect();
    let certificates = certificates.map_err(|error| file_trouble(path, error))?;
    if certificates.is_empty() {
        return Err(file_trouble(path, "no certificate in it"));
    }
    Ok(certificates)
}

/// The settings that an address asks for.
pub(crate) fn config(address: &Address) -> Result<ClientConfig, OpenError> {
    let provider = Arc::new(ring::default_provider());
    let fail = |error: Error| trouble(&address.host, &error.to_string());
    let builder = ClientConfig::builder_with_provider(Arc::clone(&provider))
        .with_safe_default_protocol_versions()
        .map_err(fail)?;
    let roots = || {
        let mut roots = RootCertStore::empty();
        roots.add_parsable_certificates(authorities(address)?);
        Ok::<_, OpenError>(roots)
    };
    let authority = match address.tls_mode().proof() {
        Proof::Authority => {
            let verifier = WebPkiServerVerifier::builder_with_provider(
                Arc::new(roots()?),
                Arc::clone(&provider),
            );
            let said = |error: VerifierBuilderError| trouble(&address.host, &error.to_string());
            Some(verifier.build().map_err(said)?)
        }
        Proof::None | Proof::Name => None,
    };
    let builder = if address.tls_mode().proof() == Proof::Name {
        builder.with_root_certificates(roots()?)
    } else {
        let verifier = AnyName {
            provider,
            authority,
        };
        builder
            .dangerous()
            .with_custom_certificate_verifier(Arc::new(verifier))
    };
    match (&address.tls.certificate, &address.tls.key) {
        (Some(certificate), Some(key)) => {
            let chain: Result<Vec<_>, _> = CertificateDer::pem_file_iter(certificate)
                .map_err(|error| file_trouble(certificate, error))?
                .collect();
            let chain = chain.map_err(|error| file_trouble(certificate, error))?;
            let key_der =
                PrivateKeyDer::from_pem_file(key).map_err(|error| file_trouble(key, error))?;
            builder.with_client_auth_cert(chain, key_der).map_err(fail)
        }
        (None, None) => Ok(builder.with_no_client_auth()),
        _ => Err(OpenError {
            trouble: Trouble::Tls,
            headline: "A certificate of your own needs its key, and a key its certificate.".into(),
            checks: vec!["Name both: tls-certificate=FILE and tls-key=FILE.".into()],
            said: None,
        }),
    }
}

/// Encrypts a stream.
pub(crate) async fn encrypt<S: AsyncRead + AsyncWrite + Unpin>(
    address: &Address,
    stream: S,
) -> Result<TlsStream<S>, OpenError> {
    let name = ServerName::try_from(address.host.clone())
        .map_err(|error| trouble(&address.host, &error.to_string()))?;
    TlsConnector::from(Arc::new(config(address)?))
        .connect(name, stream)
        .await
        .map_err(|error| trouble(&address.host, &error.to_string()))
}

/// Accepts a certificate for any name: the link is encrypted, and who made the certificate is proven where an authority is
/// to vouch for it.
#[derive(Debug)]
struct AnyName {
    provider: Arc<CryptoProvider>,
    authority: Option<Arc<WebPkiServerVerifier>>,
}

impl ServerCertVerifier for AnyName {
    fn verify_server_cert(
        &self,
        certificate: &CertificateDer<'_>,
        between: &[CertificateDer<'_>],
        name: &ServerName<'_>,
        ocsp: &[u8],
        now: UnixTime,
    ) -> Result<ServerCertVerified, Error> {
        let Some(authority) = &self.authority else {
            return Ok(ServerCertVerified::assertion());
        };
        match authority.verify_server_cert(certificate, between, name, ocsp, now) {
            // The name is looked at last, when all else is proven.
            Err(Error::InvalidCertificate(
                CertificateError::NotValidForName | CertificateError::NotValidForNameContext { .. },
            )) => Ok(ServerCertVerified::assertion()),
            verified => verified,
        }
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signature: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        verify_tls12_signature(
            message,
            certificate,
            signature,
            &self.provider.signature_verification_algorithms,
        )
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signature: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        verify_tls13_signature(
            message,
            certificate,
            signature,
            &self.provider.signature_verification_algorithms,
        )
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.provider
            .signature_verification_algorithms
            .supported_schemes()
    }
}
