//! How the server was started.

use crate::clients::TrustedProxies;

/// How the server answers.
#[derive(Debug, Clone)]
pub struct Config {
    /// Address to listen on.
    pub host: String,
    /// Port to listen on.
    pub port: u16,
    /// Whether browsers reach it by TLS, which somebody else speaks in front of it.
    pub behind_tls: bool,
    /// The proxies in front of it that say whom they speak for.
    pub trusted_proxies: TrustedProxies,
    /// E-mail and password to show on the sign-in page of a demonstration.
    pub demo_account: Option<(String, String)>,
}
