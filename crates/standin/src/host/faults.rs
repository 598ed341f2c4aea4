//! What can be wrong with the site of the small host, each with the code of the finding that tells it.

macro_rules! faults {
    ($($(#[doc = $doc:literal])+ $name:ident => $code:literal,)+) => {
        /// Something wrong with the site.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
        pub enum Fault {
            $($(#[doc = $doc])+ $name,)+
        }

        impl Fault {
            /// All of them.
            pub const ALL: &[Fault] = &[$(Fault::$name),+];

            /// The code of the finding that tells it.
            pub fn code(self) -> &'static str {
                match self {
                    $(Fault::$name => $code,)+
                }
            }
        }
    };
}

faults! {
    /// A page says that the database cannot be reached.
    Database => "page-database-error",
    /// The same in another language, with status 200 and nothing else.
    DatabaseInGerman => "page-database-error",
    /// An error of the driver in the middle of a page.
    Driver => "page-database-error",
    /// A warning of PHP above a page.
    Warning => "page-program-error",
    /// A warning of PHP without markup.
    PlainWarning => "page-program-error",
    /// A fatal error, and nothing behind.
    Fatal => "page-program-error",
    /// A program's text instead of its page.
    Source => "page-program-error",
    /// Nothing at all.
    Empty => "page-blank",
    /// A page that shows nothing.
    White => "page-blank",
    /// The home page sends to an installer.
    Installer => "page-installer",
    /// The web server's own page.
    Placeholder => "page-placeholder",
    /// Closed for visitors.
    Maintenance => "page-closed",
    /// A page sends to the old host.
    ToOld => "redirect-to-old",
    /// The same by a line in the page.
    RefreshToOld => "redirect-to-old",
    /// A page sends to somebody else.
    Away => "redirect-away",
    /// Two pages send to each other.
    Circle => "redirect-circle",
    /// Each page sends to a further one.
    Farm => "redirect-circle",
    /// The old address in a link.
    OldLink => "old-place-on-page",
    /// The old address without its scheme.
    OldWithoutScheme => "old-place-on-page",
    /// The old address with escaped slashes, in a script in the page.
    OldEscaped => "old-place-on-page",
    /// The old address percent-encoded, in a link.
    OldEncoded => "old-place-on-page",
    /// The old folder.
    OldFolder => "old-place-on-page",
    /// The old address in a style sheet.
    OldInStyle => "old-place-on-page",
    /// The old address in the site map.
    OldInMap => "old-place-on-page",
    /// A link to the root of the host, where nothing is.
    Outside => "link-outside-base",
    /// A page that is linked is not there.
    NoPage => "page-missing",
    /// The server fails.
    Fails => "page-fails",
    /// A page breaks off.
    BreaksOff => "page-fails",
    /// A picture is missing.
    NoPicture => "asset-missing",
    /// A picture comes from the old host.
    PictureToOld => "redirect-to-old",
    /// A picture for wide screens is missing.
    NoWidePicture => "asset-missing",
    /// A style sheet is missing.
    NoStyle => "asset-missing",
    /// A script is missing.
    NoScript => "asset-missing",
    /// A font that a style sheet names is missing.
    NoFont => "asset-missing",
    /// A picture is empty.
    EmptyPicture => "asset-missing",
    /// A page comes for a script.
    PageForScript => "asset-is-page",
    /// Text comes for a picture.
    TextForPicture => "asset-is-page",
    /// A wrong canonical address.
    Canonical => "canonical-elsewhere",
    /// A wrong base address.
    Base => "canonical-elsewhere",
    /// A cookie for another host.
    Cookie => "cookie-elsewhere",
    /// A cookie for another path.
    CookiePath => "cookie-elsewhere",
    /// A cookie for encrypted pages, on one that is not.
    CookieSecure => "cookie-elsewhere",
    /// The home page keeps search engines out.
    NoIndex => "not-indexed",
    /// A header does.
    NoIndexHeader => "not-indexed",
    /// `robots.txt` does.
    RobotsClose => "not-indexed",
    /// Letters that were encoded twice.
    TwiceEncoded => "letters-damaged",
    /// Letters of another character set than the header says.
    WrongCharset => "letters-damaged",
    /// Letters that became question marks.
    LostLetters => "letters-damaged",
    /// A slow page.
    Slow => "page-slow",
    /// A repository.
    Repository => "file-leaked",
    /// A dump.
    Dump => "file-leaked",
    /// An archive named like the host.
    Archive => "file-leaked",
    /// A copy of the config that an editor kept.
    ConfigCopy => "file-leaked",
    /// Settings in a file of variables.
    Variables => "file-leaked",
    /// An installer that is still there.
    InstallerLeft => "file-leaked",
    /// A folder that lists itself.
    Listing => "folder-listed",
    /// A link to this machine's own name, from a public name.
    Inner => "inner-host",
    /// A page of 50 MB.
    Large => "page-too-large",
    /// A page that does not end.
    Endless => "page-too-large",
    /// A page that comes letter by letter.
    Trickle => "page-fails",
    /// A few bytes that unpack to a gigabyte.
    Bomb => "page-too-large",
    /// A million links on one page.
    ManyLinks => "page-many-links",
    /// A tag with more attributes than anybody compares.
    LongTag => "page-too-large",
    /// A calendar without an end.
    Calendar => "visit-cut-short",
    /// A header sends to the old host.
    RefreshByHeader => "redirect-to-old",
    /// The old address in a header.
    OldInHeader => "old-place-on-page",
    /// A wrong canonical address in a header.
    CanonicalByHeader => "canonical-elsewhere",
    /// A wrong address for sharing.
    SharedElsewhere => "canonical-elsewhere",
    /// A picture that a script shows is missing.
    NoLazyPicture => "asset-missing",
    /// A picture that others show beside a link is missing.
    NoSharedPicture => "asset-missing",
    /// A few words of an error, in a language that no definition knows.
    DatabaseInFewWords => "page-database-error",
    /// A few words that the site is closed, with status 200.
    ClosedInFewWords => "page-closed",
    /// A form that asks where the database is.
    AsksForDatabase => "page-installer",
    /// A cookie for pages of others that browsers drop.
    CookieAnywhere => "cookie-elsewhere",
    /// One search engine is kept out.
    NoIndexForOne => "not-indexed",
    /// What an editor left of the config when it was cut off.
    ConfigLeft => "file-leaked",
    /// A tape archive.
    TapeArchive => "file-leaked",
    /// A folder of backups lists itself.
    BackupsListed => "folder-listed",
    /// Words that became question marks.
    LostWords => "letters-damaged",
    /// Links that repeat their own path.
    Deeper => "visit-cut-short",
}
