//! The partners' portal, on DNN: credentials in `web.config`, the database as a script for SQL Server.

use crate::{PIXEL, Site, SiteFile, Variant, file};

pub(crate) fn files(site: &Site) -> Vec<SiteFile> {
    let script: &'static str = match site.variant {
        Variant::Dnn5 => "Providers/DataProviders/SqlDataProvider/05.06.02.SqlDataProvider",
        _ => "Providers/DataProviders/SqlDataProvider/09.11.00.SqlDataProvider",
    };
    vec![
        file("web.config", config(site)),
        file("Default.aspx", "<%@ Page %>\n"),
        file(script, "-- step\n"),
        file("Providers/DataProviders/SqlDataProvider/03.01.01.SqlDataProvider", "-- step\n"),
        file("Portals/0/Images/logo.png", PIXEL),
        file("Portals/_default/Cache/x.template.htm", site.address.clone()),
        file("App_Data/Search/segments", "index"),
        file("Install/InstallWizard.aspx", "<%@ Page %>\n"),
        file("robots.txt", format!("Sitemap: {}/SiteMap.aspx\n", site.address)),
    ]
}

fn xml(value: &str) -> String {
    value.replace('&', "&amp;").replace('<', "&lt;").replace('"', "&quot;")
}

fn config(site: &Site) -> String {
    let [host, user, password, name] = &site.database;
    let connection = xml(&format!(
        "Data Source={host},1433;Initial Catalog={name};User ID={user};Password=\"{password}\";Encrypt=True"
    ));
    let second = match site.variant {
        Variant::Dnn5 => format!("\r\n    <add key=\"SiteSqlServer\" value=\"{connection}\" />"),
        _ => String::new(),
    };
    format!(
        "\u{feff}<?xml version=\"1.0\" encoding=\"utf-8\"?>\r\n<configuration>\r\n  <connectionStrings>\r\n    <!-- Server=old.test -->\r\n    \
         <add name=\"SiteSqlServer\" connectionString=\"{connection}\" providerName=\"System.Data.SqlClient\" />\r\n  </connectionStrings>\r\n  \
         <appSettings>{second}\r\n    <add key=\"UsePortNumber\" value=\"true\" />\r\n  </appSettings>\r\n  <system.web>\r\n    \
         <machineKey validationKey=\"FA4E0000FA4E\" decryptionKey=\"FA4E1111FA4E\" decryption=\"3DES\" validation=\"SHA1\" />\r\n    \
         <authentication mode=\"Forms\">\r\n      <forms name=\".DOTNETNUKE\" timeout=\"60\" />\r\n    </authentication>\r\n  </system.web>\r\n  \
         <dotnetnuke>\r\n    <data defaultProvider=\"SqlDataProvider\">\r\n      <providers>\r\n        <clear />\r\n        \
         <add name=\"SqlDataProvider\" connectionStringName=\"SiteSqlServer\" objectQualifier=\"{}\" databaseOwner=\"dbo\" />\r\n      \
         </providers>\r\n    </data>\r\n  </dotnetnuke>\r\n</configuration>\r\n",
        site.prefix.trim_end_matches('_')
    )
}

/// The script as text; the newer line's is written in UTF-16.
pub(crate) fn dump(site: &Site) -> String {
    let q = &site.prefix;
    let a = &site.address;
    let alias = a.split_once("://").map_or(a.as_str(), |(_, rest)| rest);
    let text = |value: &str| format!("N'{}'", value.replace('\'', "''"));
    let html = format!(
        "&lt;p&gt;Öffnungszeiten: &lt;a href=&quot;{a}/zeiten&quot;&gt;it's here&lt;/a&gt;&lt;/p&gt;\r\nGO\r\nnot a batch"
    );
    [
        format!("SET ANSI_NULLS ON\r\nGO\r\nCREATE TABLE [dbo].[{q}PortalAlias](\r\n\t[PortalAliasID] [int] IDENTITY(1,1) NOT NULL,\r\n\t[PortalID] [int] NOT NULL,\r\n\t[HTTPAlias] [nvarchar](200) NULL,\r\n\t[IsPrimary] [bit] NOT NULL\r\n)\r\nGO\r\n"),
        format!("SET IDENTITY_INSERT [dbo].[{q}PortalAlias] ON\r\nINSERT [dbo].[{q}PortalAlias] ([PortalAliasID], [PortalID], [HTTPAlias], [IsPrimary]) VALUES (1, 0, {}, 1)\r\n", text(alias)),
        // A portal below the first, one of its languages, its name without "www" (here: with), and another host.
        format!("INSERT [dbo].[{q}PortalAlias] ([PortalAliasID], [PortalID], [HTTPAlias], [IsPrimary]) VALUES (3, 2, {}, 1)\r\n", text(&format!("{alias}/kids"))),
        format!("INSERT [dbo].[{q}PortalAlias] ([PortalAliasID], [PortalID], [HTTPAlias], [IsPrimary]) VALUES (4, 0, {}, 0)\r\n", text(&format!("{alias}/de-de"))),
        format!("INSERT [dbo].[{q}PortalAlias] ([PortalAliasID], [PortalID], [HTTPAlias], [IsPrimary]) VALUES (5, 0, {}, 0)\r\n", text(&format!("www.{alias}"))),
        format!("INSERT [dbo].[{q}PortalAlias] ([PortalAliasID], [PortalID], [HTTPAlias], [IsPrimary]) VALUES (2, 1, {}, 0)\r\nSET IDENTITY_INSERT [dbo].[{q}PortalAlias] OFF\r\nGO\r\n", text("kids.fernhollow.example")),
        format!("INSERT [dbo].[{q}PortalSettings] ([PortalID], [SettingName], [SettingValue]) VALUES (0, N'DefaultPortalAlias', {})\r\nGO\r\n", text(alias)),
        format!("INSERT [dbo].[{q}HostSettings] ([SettingName], [SettingValue]) VALUES (N'HostURL', {}), (N'HostTitle', N'Fernhollow Partners'), (N'SMTPServer', N'mail.fernhollow.example')\r\nGO\r\n", text(a)),
        format!("INSERT [dbo].[{q}Users] ([UserID], [Username], [IsSuperUser], [Email]) VALUES (5, N'Second', 1, N'second@fernhollow.example'), (1, N'Host', 1, N'host@fernhollow.example'), (2, N'admin', 0, N'admin@fernhollow.example')\r\nGO\r\n"),
        "INSERT [dbo].[aspnet_Users] ([UserId], [UserName], [LoweredUserName]) VALUES (N'22222222-fake', N'admin', N'admin'), (N'11111111-fake', N'Host', N'host')\r\nGO\r\n".to_string(),
        "INSERT [dbo].[aspnet_Membership] ([UserId], [Password], [PasswordFormat], [PasswordSalt], [Email], [IsApproved], [IsLockedOut], [FailedPasswordAttemptCount]) VALUES (N'22222222-fake', N'fake-admin', 2, N'fake', N'admin@fernhollow.example', 1, 0, 0), (N'11111111-fake', N'fake-host', 2, N'fake', N'host@fernhollow.example', 0, 1, 5)\r\nGO\r\n".to_string(),
        format!("INSERT [dbo].[{q}HtmlText] ([ModuleID], [Content]) VALUES (381, {})\r\nGO\r\n", text(&html)),
        format!("INSERT [dbo].[{q}EventLog] ([LogEventID], [LogProperties]) VALUES (1, {})\r\nGO\r\n", text(&format!("<x>{a}</x>"))),
        format!("CREATE PROCEDURE [dbo].[{q}GetAlias] AS SELECT HTTPAlias FROM dbo.[{q}PortalAlias]\r\nGO\r\n"),
    ]
    .concat()
}
