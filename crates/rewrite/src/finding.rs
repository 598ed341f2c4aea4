//! What a person should know of: one kind of value for everything that any command finds, with a code that programs can rely on.
//!
//! The core collects findings in its results; how they are drawn is for others to decide. A code never changes its meaning; its severity
//! is what its own nature says, so that one place decides which findings make a command end with "needs attention".

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::borrow::Borrow;
use std::path::PathBuf;

/// How much a finding weighs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Severity {
    /// Good to know; nothing has to be done.
    Note,
    /// Somebody has to look at it.
    Attention,
}

macro_rules! codes {
    ($($(#[doc = $doc:literal])+ $name:ident = $severity:ident,)+) => {
        /// What kind of finding it is. Programs may rely on these names.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema)]
        #[serde(rename_all = "kebab-case")]
        pub enum Code {
            $($(#[doc = $doc])+ $name,)+
        }

        impl Code {
            /// All of them.
            pub const ALL: &[Code] = &[$(Code::$name),+];

            /// How much findings of this kind weigh.
            pub fn severity(self) -> Severity {
                match self {
                    $(Code::$name => Severity::$severity,)+
                }
            }

            /// What it means, in a sentence.
            pub fn about(self) -> &'static str {
                match self {
                    $(Code::$name => concat!($($doc),+).trim_ascii(),)+
                }
            }
        }
    };
}

codes! {
    /// A folder that was asked for by name holds none of the site's files.
    ScopeMatchesNothing = Attention,
    /// A pattern for tables fits none.
    PatternMatchesNothing = Attention,
    /// The tables hardly are those of this site.
    TablesOfAnotherSite = Attention,
    /// Tables that are not the site's stay behind.
    TablesOfOthers = Note,
    /// A table serves other sites as well and is copied with this one.
    TableShared = Attention,
    /// A file or folder cannot be read and is missing from what was made.
    FileUnreadable = Attention,
    /// Files went away while the site was read, and are missing from what was made.
    FileVanished = Attention,
    /// A file became shorter, or could not be read on, while it was read.
    FileShrank = Attention,
    /// A host failed while it was asked, and something may be missing from what was made.
    PlaceFailed = Attention,
    /// A part of the database could not be read again.
    PartUnreadable = Attention,
    /// What was named is a part of a project whose other parts lie beside or above it.
    SiteIsPartOfProject = Attention,
    /// A folder that belongs to the site is not where it should be.
    FolderMissing = Attention,
    /// A folder in which the site writes belongs to somebody else than it should.
    FolderNotWritable = Attention,
    /// A link leads out of the site; what it leads to was packed in its place.
    LinkPackedAsContent = Note,
    /// A link could not be made: the place knows none.
    LinkNotMade = Attention,
    /// A link leads out of the copy.
    LinkLeadsOut = Attention,
    /// A device, pipe or socket was left out.
    SpecialFileLeftOut = Note,
    /// An entry of an archive was refused.
    EntryRefused = Attention,
    /// A single file is heavy and hardly part of the site: an archive, a dump, a log.
    HeavyFile = Note,
    /// Something lies in the document root that anyone could fetch and that tells or does too much.
    FetchableFile = Attention,
    /// A dump holds no table, or no rows.
    DumpEmpty = Attention,
    /// A dump ends in the middle of a statement.
    DumpCutOff = Attention,
    /// A statement of a dump that builds nothing of the site was left out.
    StatementLeftOut = Attention,
    /// A dump names a database as its own; it was loaded into another.
    DatabaseNamedInDump = Note,
    /// Rights on tables that a dump grants were left out.
    RightsLeftOut = Note,
    /// There is no database to be restored, although one was named.
    NoDatabase = Attention,
    /// A view, trigger, routine or the like could not be carried over.
    ObjectLeftOut = Attention,
    /// The server refused a statement that is not needed for the rows.
    ObjectRefused = Attention,
    /// A thing of that name was there and was left as it is.
    ObjectExisted = Attention,
    /// Stored code puts statements together while it runs.
    DynamicSql = Attention,
    /// Stored code names another database.
    CodeNamesDatabase = Attention,
    /// Events were loaded at rest.
    EventsAtRest = Attention,
    /// A materialised view was left empty.
    ViewEmpty = Attention,
    /// A table holds another number of rows than were sent.
    RowsDiffer = Attention,
    /// A table's checksum is another than was dumped.
    ChecksumDiffers = Attention,
    /// The server changed values of its own accord.
    ValuesChangedByServer = Attention,
    /// Rows refer to rows that are not there.
    ReferencesBroken = Attention,
    /// The server does not know a character set, collation or engine, and another was put in its place.
    Substituted = Note,
    /// The account may do more than one database needs, or less than a load needs.
    AccountRights = Attention,
    /// A user of a database existed and was left as it is.
    UserExisted = Attention,
    /// No config file of the system is there.
    ConfigMissing = Attention,
    /// A config file was left as it is.
    ConfigLeft = Attention,
    /// A value of the config comes from the environment of the server.
    ConfigFromEnvironment = Attention,
    /// A value of the config is computed by the program.
    ConfigComputed = Attention,
    /// The config logs in to its database without user and password.
    ConfigWithoutLogIn = Attention,
    /// The config cannot name the socket by which the new database is reached.
    ConfigTakesNoSocket = Attention,
    /// The config names another kind of server than the new database's.
    ConfigOtherServer = Attention,
    /// The config lets hosts in, and the new one is none of them.
    ConfigShutsHostOut = Attention,
    /// The config names a server that the site goes on sharing with others.
    ConfigOtherServers = Note,
    /// A setting with which no site should be open to all.
    ConfigRisky = Attention,
    /// A row was set, and a line of the config counts for more.
    ConfigBeatsRow = Attention,
    /// A key that should be set is not in the config.
    ConfigKeyMissing = Attention,
    /// A key holds an address that is none of the site's old ones.
    ConfigOtherAddress = Attention,
    /// What changed on the side that is written since a copy was made is gone over.
    Overwrites = Attention,
    /// A copy acts on the outside as the live site does.
    StaysLive = Attention,
    /// Settings changed at the source since the copy was made; the copy keeps its own.
    ConfigChangedAtSource = Attention,
    /// Everyone on the host may write the config file.
    ConfigWritable = Attention,
    /// The config file is read-only.
    ConfigReadOnly = Note,
    /// A value of the config cannot take what the new place needs.
    ConfigCannotTake = Attention,
    /// A path in the config lies outside of the site.
    PathOutsideSite = Attention,
    /// A path in the config is not on this machine.
    PathMissing = Note,
    /// The old address is not known.
    AddressUnknown = Attention,
    /// An old address that was named would take in other sites' pages.
    AddressTooWide = Attention,
    /// The system has no such switch, or not in this version.
    SwitchUnknown = Attention,
    /// The definition does not say where a name or address of the site stands.
    IdentityUnknown = Attention,
    /// What one should know of the administrator's account that was changed.
    AdministratorToKnow = Note,
    /// The administrator's account was not changed.
    AdministratorNotChanged = Attention,
    /// A row that was to be set is not there.
    RowMissing = Attention,
    /// Rows name the old place in a way that was left.
    OldPlaceInRows = Attention,
    /// A file names the old place in a way that was left.
    OldPlaceInFile = Attention,
    /// Something names the old place.
    OldPlaceFound = Attention,
    /// An archive is damaged.
    ArchiveDamaged = Attention,
    /// A file was changed after the run and stays.
    ChangedAfterRun = Attention,
    /// A table that the run did not make stays.
    TableNotOfRun = Attention,
    /// A config file is not what its program can read.
    ConfigUnreadable = Attention,
    /// The server does not let the config's own user in, or does not answer.
    DatabaseRefused = Attention,
    /// No table begins with the config's prefix.
    PrefixFitsNothing = Attention,
    /// The server calls a table damaged.
    TableDamaged = Attention,
    /// Config or rows speak of another place than the one in which the site lies.
    SettleNeeded = Attention,
    /// A line of the web server's files leads elsewhere.
    RedirectElsewhere = Attention,
    /// The web server sends visitors away from where the site sends them.
    RedirectLoop = Attention,
    /// The owner of the site cannot read files of it.
    FileNotReadable = Attention,
    /// A cache was made for the site in another folder.
    CacheOfOtherPlace = Attention,
    /// The disk is full.
    DiskFull = Attention,
    /// A time lies ahead.
    ClockWrong = Attention,
    /// PHP does not fit the system.
    PhpUnfit = Attention,
    /// A log of the site tells of a failure.
    LogSays = Attention,
    /// A site was closed, or otherwise set, while it was read, and stays so.
    LeftQuiet = Attention,
    /// Another way into the database than the archive's was taken.
    OtherAccess = Note,
    /// An archive is brought back on another machine than the one that packed it.
    OtherMachine = Note,
    /// Something that a site depends on is not what it was where it was packed.
    MachineDiffers = Attention,
    /// Tables cannot take each other's place in one step here.
    NoExchange = Note,
    /// A run was interrupted and has not been gone on with or undone.
    RunUnfinished = Note,
    /// A page that is linked is not there.
    PageMissing = Attention,
    /// The server fails instead of giving a page, or refuses it.
    PageFails = Attention,
    /// A page tells of an error of its database.
    PageDatabaseError = Attention,
    /// A page tells of an error of its program.
    PageProgramError = Attention,
    /// A page is empty.
    PageBlank = Attention,
    /// An installer answers in place of the site.
    PageInstaller = Attention,
    /// A page of the web server or of the host answers in place of the site.
    PagePlaceholder = Attention,
    /// The site is closed for visitors.
    PageClosed = Attention,
    /// A page is larger than what is read of it.
    PageTooLarge = Attention,
    /// A page has more links than are followed.
    PageManyLinks = Note,
    /// A page took long.
    PageSlow = Attention,
    /// A page sends its visitors to the old site.
    RedirectToOld = Attention,
    /// A page sends its visitors to another host.
    RedirectAway = Attention,
    /// A page sends its visitors in a circle.
    RedirectCircle = Attention,
    /// A page names the old address or folder.
    OldPlaceOnPage = Attention,
    /// A link leads out of the base path of the site.
    LinkOutsideBase = Attention,
    /// A link leads to the site by another scheme than its own.
    LinkOtherScheme = Attention,
    /// A picture, style, script, font or film is missing.
    AssetMissing = Attention,
    /// A page answers where a picture, style or script should be.
    AssetIsPage = Attention,
    /// An encrypted page needs something that comes unencrypted.
    MixedContent = Attention,
    /// A page calls another address its own.
    CanonicalElsewhere = Attention,
    /// A cookie is for another host, path or scheme, so browsers drop it.
    CookieElsewhere = Attention,
    /// A live site keeps search engines out.
    NotIndexed = Attention,
    /// A development copy lets search engines in.
    CopyIndexed = Attention,
    /// Letters of a page are damaged by a wrong character set.
    LettersDamaged = Attention,
    /// A form of a development copy would send mail.
    FormSends = Attention,
    /// The certificate of the server does not hold for the site.
    CertificateWrong = Attention,
    /// The certificate of the server ends soon.
    CertificateEnds = Attention,
    /// Anyone can fetch a file that tells too much.
    FileLeaked = Attention,
    /// Anyone can list a folder.
    FolderListed = Attention,
    /// A page of a public site leads to an inner host.
    InnerHost = Attention,
    /// Not all pages were looked at.
    VisitCutShort = Note,
    /// What the site says to programs that walk it.
    RobotsSay = Note,
    /// A page of the old site is not on the new one.
    BesideMissing = Attention,
    /// A page is on the new site alone.
    BesideNew = Note,
    /// A page is not the same as on the old site.
    BesideDiffers = Attention,
    /// The log-in did not work.
    LogInFailed = Attention,
    /// Nobody knows how to log in.
    LogInUnknown = Attention,
    /// A page behind the log-in does not come.
    BehindLogInFails = Attention,
    /// A name server does not answer, or knows nothing of the host.
    NameServerFails = Attention,
    /// Name servers still lead to another host.
    NameLeadsElsewhere = Attention,
    /// Name servers tell different things.
    NamesDiffer = Attention,
    /// Mail for the name goes to nobody, or to another place than before.
    MailToKnow = Attention,
    /// No certificate may be made for the name by who is asked usually.
    CertificatesForbidden = Note,
    /// Pictures could not be taken.
    PicturesMissing = Note,
    /// A page looks different from the old one.
    PictureDiffers = Attention,
}

/// Something that a person should know of.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Finding {
    /// Its kind.
    pub code: Code,
    /// How much it weighs.
    pub severity: Severity,
    /// What was met, in one sentence without a full stop.
    pub what: String,
    /// Where: a path, a table, a line; empty if it concerns the whole run.
    pub place: String,
    /// Why it is so, where that is known.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub cause: String,
    /// What to do next; empty if nothing needs to be done.
    pub cure: String,
}

impl Finding {
    /// Makes a finding from its parts; it weighs what its kind weighs.
    pub fn new(
        code: Code,
        what: impl Into<String>,
        place: impl Into<String>,
        cure: impl Into<String>,
    ) -> Self {
        let (what, place, cure) = (what.into(), place.into(), cure.into());
        Finding { code, severity: code.severity(), what, place, cause: String::new(), cure }
    }

    /// Makes a finding about a path.
    pub fn at(
        code: Code,
        what: impl Into<String>,
        path: impl Into<PathBuf>,
        cure: impl Into<String>,
    ) -> Self {
        Finding::new(code, what, path.into().display().to_string(), cure)
    }

    /// The same with its cause.
    pub fn because(self, cause: impl Into<String>) -> Self {
        Finding { cause: cause.into(), ..self }
    }

    /// The same, which nobody has to look at.
    pub fn as_note(self) -> Self {
        Finding { severity: Severity::Note, ..self }
    }

    /// Says whether somebody has to look at it.
    pub fn needs_attention(&self) -> bool {
        self.severity == Severity::Attention
    }
}

/// The first of some names, at most `most`, and how many more there are.
pub fn first_of<S: Borrow<str>>(names: &[S], most: usize) -> String {
    let more = names.len().saturating_sub(most);
    let shown = names[..names.len() - more].join(", ");
    if more > 0 { format!("{shown} and {more} more") } else { shown }
}

/// Says whether any of these needs a person.
pub fn need_attention(findings: &[Finding]) -> bool {
    findings.iter().any(Finding::needs_attention)
}
