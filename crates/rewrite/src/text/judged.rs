//! What is asked of a rewrite, and what comes of a place that names what is looked for: a change, or the reason why it is left.

use crate::edit::Edit;
use schemars::JsonSchema;
use serde::Serialize;

/// Why a place that names the old site was left as it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum LeftReason {
    /// The host alone, in running text.
    BareHost,
    /// The domain of an e-mail address.
    Email,
    /// Another host or path that merely contains the old one.
    LookAlike,
    /// The old host on another port.
    OtherPort,
    /// The old host with a scheme other than http or https.
    OtherScheme,
    /// The old host, but outside of the old base path.
    OutsideBase,
    /// A reference from the root of the old host, where one of the two base paths is the bare root.
    RootRelative,
    /// A serialized value whose lengths were wrong before.
    BrokenSerialized,
    /// A custom-serialized object whose form is not known.
    UnknownCustom,
    /// Bytes that are no text and of no known form.
    Binary,
    /// Compressed, in a column that no definition declares so, or not readable to its end.
    Packed,
    /// Nested deeper than is followed.
    TooDeep,
    /// In a comment of the dump.
    Comment,
    /// In a place of the dump that holds no value, such as a name or the part behind a break.
    Elsewhere,
    /// The old database password.
    Password,
    /// A log-in in an address that moved.
    LogIn,
    /// A view, trigger, routine or event that names the old database.
    OldDatabase,
    /// A value that begins with the old table prefix, perhaps by chance.
    LikePrefix,
}

impl LeftReason {
    /// Describes the reason in a few words.
    pub fn words(self) -> &'static str {
        match self {
            LeftReason::BareHost => "host alone, in text",
            LeftReason::Email => "domain of an e-mail address",
            LeftReason::LookAlike => "another host or path that looks alike",
            LeftReason::OtherPort => "old host, other port",
            LeftReason::OtherScheme => "old host, other scheme",
            LeftReason::OutsideBase => "old host, outside the old base path",
            LeftReason::RootRelative => "root-relative reference",
            LeftReason::BrokenSerialized => "serialized value was already broken",
            LeftReason::UnknownCustom => "object serialized in a form of its own",
            LeftReason::Binary => "inside of binary data",
            LeftReason::Packed => "inside of compressed data",
            LeftReason::TooDeep => "nested too deep",
            LeftReason::Comment => "in a comment of the dump",
            LeftReason::Elsewhere => "in the dump, but in no value",
            LeftReason::Password => "old database password",
            LeftReason::OldDatabase => "stored code that names the old database",
            LeftReason::LikePrefix => "begins like the old table prefix",
            LeftReason::LogIn => "log-in in an address: the address moved, the log-in is as it was",
        }
    }

    /// Says whether somebody has to look at such a place: it still leads to the old one, or could not be understood. A host name in running
    /// text leads nowhere by itself.
    pub fn needs_attention(self) -> bool {
        self.is_leftover() && !matches!(self, LeftReason::BareHost | LeftReason::LogIn)
    }

    /// Says what can be done about it.
    pub fn cure(self) -> &'static str {
        match self {
            LeftReason::BareHost => "nothing, or --bare-hosts changes them",
            LeftReason::Email => "nothing, or --mail-domains changes them",
            LeftReason::LookAlike | LeftReason::Comment => "nothing",
            LeftReason::OtherPort | LeftReason::OtherScheme => {
                "look whether that service moves as well; if so, name its address as another old one"
            }
            LeftReason::OutsideBase => {
                "nothing if that part of the old host stays; else name the whole host as an old address"
            }
            LeftReason::RootRelative => "look at these links; --references changes them",
            LeftReason::BrokenSerialized => {
                "--repair mends lengths where only one reading is possible; else save the setting anew"
            }
            LeftReason::UnknownCustom | LeftReason::Binary | LeftReason::Packed | LeftReason::TooDeep => {
                "save these settings anew in the back end of the copy"
            }
            LeftReason::Elsewhere => "look at the dump",
            LeftReason::Password => "look who keeps the old password there, and change it",
            LeftReason::LogIn => "look whether the log-in is right at the new place",
            LeftReason::LikePrefix => {
                "look whether what uses them finds them by the prefix; if so, rename them by hand"
            }
            LeftReason::OldDatabase => "look at the stored code before the site uses it",
        }
    }

    /// Says whether the reason means that something still points to the old place (rather than naming something else).
    pub fn is_leftover(self) -> bool {
        !matches!(
            self,
            LeftReason::LookAlike | LeftReason::Email | LeftReason::Comment | LeftReason::LikePrefix
        )
    }
}

/// What is changed only when somebody asks for it.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct RewriteOptions {
    /// Root-relative references from or to the bare root.
    pub references: bool,
    /// Host names that stand alone in running text.
    pub bare_hosts: bool,
    /// Domains of e-mail addresses.
    pub mail_domains: bool,
    /// Lengths of serialized values that were wrong before, where only one reading is possible.
    pub repair: bool,
}

/// What a look at one hit came to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Judged {
    /// It is ours: this edit moves it.
    Change(Edit),
    /// It is not ours, or not ours to change.
    Left {
        /// Offset of the core.
        at: usize,
        /// Why.
        reason: LeftReason,
    },
}
