//! Passwords of administrators, in the scheme that a system's version accepts.
//!
//! A scheme is chosen by the definition ([`crate::system::copy::HashRule`]). Salts come from the operating system's randomness, by way
//! of the hash library.

use crate::secret::Secret;
use crate::system::copy::HashScheme;
use data_encoding::{BASE64, HEXLOWER};
use md5::{Digest, Md5};
use pbkdf2::pbkdf2_hmac_array;
use sha1::Sha1;
use sha2::{Sha256, Sha512};

/// Rounds of PBKDF2. Programs read the number from the hash, and make another with their own at the next log-in.
const PBKDF2_ROUNDS: u32 = 600_000;

/// A hashed password.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Hashed {
    /// What stands in the password's column.
    pub hash: String,
    /// What stands in the salt's column, where the scheme has one of its own.
    pub salt: Option<String>,
}

/// Why a password cannot be hashed.
#[derive(Debug, thiserror::Error)]
pub enum HashError {
    /// The scheme needs the site's secret and none is known.
    #[error("passwords of this version are hashed with a secret of the config, which is not there")]
    NoSecret,
    /// Programs take so many bytes of this scheme.
    #[error("the password is longer than the {most} bytes that this version takes")]
    TooLong {
        /// Most bytes.
        most: usize,
    },
    /// A log-in form would not hand it on as it is.
    #[error(
        "the password is empty, begins or ends with a space, or holds a control character: log-in forms cut these"
    )]
    Cut,
    /// No scheme is known that the version accepts.
    #[error("no hash scheme is known that this version accepts")]
    NoScheme,
    /// No randomness.
    #[error("the operating system gave no random bytes")]
    Random,
}

/// Signs of the salts and of the hashes that encode six bits each.
const SIGNS: &[u8; 64] = b"./0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz";

/// Spells a password as programs do that escape what a form sends before they look at it.
pub fn escaped(password: &Secret) -> Secret {
    let text = password.expose().replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;");
    Secret::new(text.replace('"', "&quot;"))
}

/// Hashes a password. `secret` is the site's own, for the schemes that use it.
pub fn hash(scheme: HashScheme, password: &Secret, secret: Option<&Secret>) -> Result<Hashed, HashError> {
    hash_salted(scheme, password.expose(), secret, &random()?)
}

/// Returns 16 random bytes.
fn random() -> Result<[u8; 16], HashError> {
    let mut out = [0; 16];
    rustix::rand::getrandom(&mut out, rustix::rand::GetRandomFlags::empty())
        .ok()
        .filter(|n| *n == out.len())
        .ok_or(HashError::Random)?;
    Ok(out)
}

fn hash_salted(
    scheme: HashScheme,
    password: &str,
    secret: Option<&Secret>,
    random: &[u8; 16],
) -> Result<Hashed, HashError> {
    if password.trim() != password || password.is_empty() || password.chars().any(char::is_control) {
        return Err(HashError::Cut);
    }
    // Sources: the manual of bcrypt; the limits in the programs' own functions.
    let most = match scheme {
        HashScheme::Bcrypt => 72,
        HashScheme::Sha512Iterated => 512,
        _ => 4096,
    };
    if password.len() > most {
        return Err(HashError::TooLong { most });
    }
    let letters = |n: usize| -> String {
        random.iter().cycle().take(n).map(|b| SIGNS[usize::from(b & 63)] as char).collect()
    };
    let plain = |hash: String| Ok(Hashed { hash, salt: None });
    let md5 = |text: &[u8]| HEXLOWER.encode(&Md5::digest(text));
    match scheme {
        HashScheme::Md5 => plain(md5(password.as_bytes())),
        HashScheme::Md5Salted => {
            let salt = HEXLOWER.encode(random);
            plain(format!("{}:{salt}", md5(format!("{password}{salt}").as_bytes())))
        }
        HashScheme::Md5Secret => {
            let secret = secret.ok_or(HashError::NoSecret)?;
            plain(md5(format!("{}{password}", secret.expose()).as_bytes()))
        }
        HashScheme::Bcrypt => {
            let parts = bcrypt::hash_with_salt(password, 10, *random);
            let parts = parts.map_err(|_| HashError::TooLong { most })?;
            plain(parts.format_for_version(bcrypt::Version::TwoY))
        }
        HashScheme::PhpassP => plain(iterated_md5("$P$B", 13, &letters(8), password)),
        HashScheme::PhpassH => plain(iterated_md5("$H$9", 11, &letters(8), password)),
        HashScheme::Sha512Iterated => plain(iterated_sha512(&letters(8), password)),
        HashScheme::Pbkdf2Sha256 => {
            let salt = HEXLOWER.encode(random);
            let key: [u8; 32] =
                pbkdf2_hmac_array::<Sha256, 32>(password.as_bytes(), salt.as_bytes(), PBKDF2_ROUNDS);
            plain(format!("pbkdf2_sha256${PBKDF2_ROUNDS}${salt}${}", BASE64.encode(&key)))
        }
        HashScheme::Sha1Utf16 => {
            let wide: Vec<u8> = password.encode_utf16().flat_map(u16::to_le_bytes).collect();
            let hash = Sha1::digest([&random[..], &wide].concat());
            Ok(Hashed { hash: BASE64.encode(&hash), salt: Some(BASE64.encode(random)) })
        }
    }
}

/// The portable hash of PHP programs: MD5, repeated 2^`rounds` times with the password.
fn iterated_md5(mark: &str, rounds: u32, salt: &str, password: &str) -> String {
    let mut hash = Md5::digest(format!("{salt}{password}"));
    for _ in 0..1u32 << rounds {
        hash = Md5::digest([&hash[..], password.as_bytes()].concat());
    }
    format!("{mark}{salt}{}", six_bits(&hash))
}

/// The same with SHA-512, 2^15 rounds, cut to the 55 signs of its column.
fn iterated_sha512(salt: &str, password: &str) -> String {
    let mut hash = Sha512::digest(format!("{salt}{password}"));
    for _ in 0..1 << 15 {
        hash = Sha512::digest([&hash[..], password.as_bytes()].concat());
    }
    let mut out = format!("$S$D{salt}{}", six_bits(&hash));
    out.truncate(55);
    out
}

/// Encodes bytes six bits a sign, the lowest bits first, as those hashes do.
fn six_bits(bytes: &[u8]) -> String {
    let mut out = String::new();
    for group in bytes.chunks(3) {
        let value = group.iter().rev().fold(0u32, |v, b| v << 8 | u32::from(*b));
        for i in 0..=group.len() {
            out.push(SIGNS[(value >> (6 * i) & 63) as usize] as char);
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn known_passwords_give_known_hashes() {
        let hash = |scheme, password: &str| {
            hash_salted(scheme, password, Some(&Secret::new("FakeKey")), &[7; 16]).unwrap()
        };
        // MD5 and SHA-1 of RFC 1321 and FIPS 180 are the libraries' own; here the composition is tested, with values of PHP's functions.
        assert_eq!(hash(HashScheme::Md5, "abc").hash, "900150983cd24fb0d6963f7d28e17f72");
        assert_eq!(hash(HashScheme::Md5Secret, "abc").hash, "748328d88ae444bda57d8f897d4000c6");
        assert!(hash(HashScheme::Md5Salted, "abc").hash.ends_with(":07070707070707070707070707070707"));
        let bcrypt = hash(HashScheme::Bcrypt, "pässword").hash;
        assert!(bcrypt.starts_with("$2y$10$") && bcrypt::verify("pässword", &bcrypt).unwrap());
        let iterated = |mark, rounds| iterated_md5(mark, rounds, "fakeSalt", "fake-Nova-1604");
        assert_eq!(iterated("$P$B", 13), "$P$BfakeSaltJhldKG9QkhOWhWQhzQx.e.");
        assert_eq!(iterated("$H$9", 11), "$H$9fakeSalt9u1vuylw/SrnKcTEug7A./");
        let sha512 = iterated_sha512("fakeSalt", "fake-Nova-1604");
        assert_eq!(sha512, "$S$DfakeSaltFHDPjSzBcMAuLyIoVQO/symOUowDW9eR5kj8X5ChMZi");
        let wide = hash_salted(HashScheme::Sha1Utf16, "fake-Nova-1604", None, b"fake-salt-16byte").unwrap();
        assert_eq!(
            (wide.hash.as_str(), wide.salt.as_deref()),
            ("9N9NOHUKeUjokqvUw5RKHixQi2Y=", Some("ZmFrZS1zYWx0LTE2Ynl0ZQ=="))
        );
        for (scheme, most) in
            [(HashScheme::Bcrypt, 72), (HashScheme::Sha512Iterated, 512), (HashScheme::PhpassP, 4096)]
        {
            let of = |n: usize| hash_salted(scheme, &"x".repeat(n), None, &[0; 16]);
            assert!(of(most).is_ok() && of(most + 1).is_err(), "{scheme:?}");
        }
        for cut in ["", " a", "a\n", "a\0b", "a\tb"] {
            assert!(
                matches!(hash_salted(HashScheme::Md5, cut, None, &[0; 16]), Err(HashError::Cut)),
                "{cut:?}"
            );
        }
        assert_eq!(escaped(&Secret::new("a&b<\">'")).expose(), "a&amp;b&lt;&quot;&gt;'");
        assert!(hash_salted(HashScheme::Md5Secret, "x", None, &[0; 16]).is_err());
    }
}
