//! The steps of a check.

/// The steps of a check, in the order in which a browser depends on them.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, serde::Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum CheckStep {
    /// Suffix of the name: reserved, public, HTTPS only (RFC 6761, and the public suffixes).
    Suffix,
    /// The hosts file's answer.
    Hosts,
    /// The system resolver's answer.
    Resolver,
    /// The address is this machine's, or the one that was declared.
    Address,
    /// TCP to the first port, and who listens on all of them.
    Connect,
    /// The virtual host that answers by the configuration on the disk.
    VirtualHost,
    /// The HTTP answer.
    Http,
    /// HTTP leads to the same place over HTTPS.
    Redirect,
    /// The TLS handshake.
    Tls,
    /// The versions of TLS and the protocols within it (RFC 7301) that are offered besides.
    Offers,
    /// The answer to a client that asks for an unknown host name (RFC 6066 section 3).
    OtherNames,
    /// The chain leads to the authority.
    Chain,
    /// The name is covered.
    Name,
    /// The time in which the certificate is valid.
    Validity,
    /// The certificate is the one on the disk.
    Disk,
    /// Each trust store of this machine trusts the authority.
    Stores,
    /// The HTTPS answer.
    Https,
    /// The application stays on the name: by its redirects and by what its page says of itself.
    Application,
    /// The answer comes from the site's own folder.
    Proof,
}

impl CheckStep {
    /// Whether it is about one address of a name, and not about the name.
    pub(super) fn is_of_address(self) -> bool {
        !matches!(
            self,
            Self::Suffix
                | Self::Hosts
                | Self::Resolver
                | Self::Address
                | Self::VirtualHost
                | Self::Offers
                | Self::OtherNames
                | Self::Stores
        )
    }

    /// Every one, in order.
    pub const ALL: [Self; 19] = [
        Self::Suffix,
        Self::Hosts,
        Self::Resolver,
        Self::Address,
        Self::Connect,
        Self::VirtualHost,
        Self::Http,
        Self::Redirect,
        Self::Tls,
        Self::Offers,
        Self::OtherNames,
        Self::Chain,
        Self::Name,
        Self::Validity,
        Self::Disk,
        Self::Stores,
        Self::Https,
        Self::Application,
        Self::Proof,
    ];

    /// The earlier steps without which there is nothing to see.
    pub(super) fn needs(self, has_https: bool) -> &'static [Self] {
        use CheckStep as S;
        match self {
            S::Suffix | S::Hosts | S::VirtualHost => &[],
            S::Resolver => &[S::Hosts],
            S::Address | S::Tls => &[S::Hosts, S::Resolver],
            S::Connect => &[S::Hosts, S::Resolver, S::Address],
            S::Http => &[S::Hosts, S::Resolver, S::Connect],
            S::Offers | S::OtherNames | S::Chain | S::Name | S::Validity | S::Disk => &[S::Hosts, S::Resolver, S::Tls],
            S::Stores => &[S::Hosts, S::Resolver, S::Tls, S::Chain],
            S::Https | S::Application | S::Proof if has_https => {
                &[S::Hosts, S::Resolver, S::Tls, S::Chain, S::Name, S::Validity]
            }
            S::Redirect | S::Https | S::Application | S::Proof => &[S::Hosts, S::Resolver, S::Connect, S::Http],
        }
    }

    /// Whether it is about TLS.
    pub(super) fn is_of_tls(self) -> bool {
        (Self::Tls..=Self::Https).contains(&self)
    }
}
