//! Spelling of sample rows: SQL literals, serialized values, JSON with escaped slashes.

/// The hash of a member's password, `fake-Old-Pass`.
pub(crate) const MEMBER: &str = "$2y$04$LHk5bvokCjb2S6Rn.EmR0es.gqNxf.hpglLFU8D5gDjdkWEdhRdXu";

/// Spells text as an SQL string.
pub fn text(value: &str) -> String {
    let mut out = String::from("'");
    for c in value.chars() {
        match c {
            '\'' => out.push_str("\\'"),
            '"' => out.push_str("\\\""),
            '\\' => out.push_str("\\\\"),
            '\n' => out.push_str("\\n"),
            '\r' => out.push_str("\\r"),
            '\0' => out.push_str("\\0"),
            c => out.push(c),
        }
    }
    out.push('\'');
    out
}

/// Spells text as an SQL string in which backslashes are plain.
pub fn plain_text(value: &str) -> String {
    format!("'{}'", value.replace('\'', "''"))
}

/// Spells text as PHP's `serialize` does.
pub fn serialized(value: &str) -> String {
    format!("s:{}:\"{value}\";", value.len())
}

/// Spells a list of keys and already serialized values as PHP's `serialize` does.
pub fn serialized_array(pairs: &[(&str, String)]) -> String {
    let body: String = pairs.iter().map(|(k, v)| serialized(k) + v).collect();
    format!("a:{}:{{{body}}}", pairs.len())
}

/// Spells text as the inside of a JSON string, slashes escaped as PHP does.
pub fn json(value: &str) -> String {
    value.replace('\\', "\\\\").replace('"', "\\\"").replace('/', "\\/").replace('\n', "\\n")
}

/// Writes a table as a client's dump does: structure, lock, one insert, unlock.
pub fn table(name: &str, columns: &str, rows: &[String]) -> String {
    let mut out = format!(
        "--\n-- Table structure for table `{name}`\n--\n\nDROP TABLE IF EXISTS `{name}`;\n/*!40101 SET @saved_cs_client     = @@character_set_client */;\n\
         /*!40101 SET character_set_client = utf8 */;\nCREATE TABLE `{name}` (\n{columns}\n) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4;\n\
         /*!40101 SET character_set_client = @saved_cs_client */;\n\n"
    );
    if !rows.is_empty() {
        out += &format!(
            "LOCK TABLES `{name}` WRITE;\n/*!40000 ALTER TABLE `{name}` DISABLE KEYS */;\nINSERT INTO `{name}` VALUES {};\n\
             /*!40000 ALTER TABLE `{name}` ENABLE KEYS */;\nUNLOCK TABLES;\n\n",
            rows.join(",")
        );
    }
    out
}

/// The head of a client's dump.
pub const HEAD: &str = "-- Dump of a made-up database of Fernhollow Observatory\n--\n/*!40101 SET @OLD_CHARACTER_SET_CLIENT=@@CHARACTER_SET_CLIENT */;\n\
    /*!40101 SET NAMES utf8mb4 */;\n/*!40103 SET @OLD_TIME_ZONE=@@TIME_ZONE */;\n/*!40103 SET TIME_ZONE='+00:00' */;\n\
    /*!40014 SET @OLD_UNIQUE_CHECKS=@@UNIQUE_CHECKS, UNIQUE_CHECKS=0 */;\n\
    /*!40014 SET @OLD_FOREIGN_KEY_CHECKS=@@FOREIGN_KEY_CHECKS, FOREIGN_KEY_CHECKS=0 */;\n\
    /*!40101 SET @OLD_SQL_MODE=@@SQL_MODE, SQL_MODE='NO_AUTO_VALUE_ON_ZERO' */;\n\n";

/// The end of a script for a database file.
pub const FILE_TAIL: &str = "COMMIT;\n";

/// The end of a client's dump.
pub const TAIL: &str = "/*!40103 SET TIME_ZONE=@OLD_TIME_ZONE */;\n/*!40101 SET SQL_MODE=@OLD_SQL_MODE */;\n\
    /*!40014 SET FOREIGN_KEY_CHECKS=@OLD_FOREIGN_KEY_CHECKS */;\n/*!40014 SET UNIQUE_CHECKS=@OLD_UNIQUE_CHECKS */;\n\n-- Dump completed\n";
