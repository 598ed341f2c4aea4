//! The PHP of this machine, if there is one, against what the system's line needs.

use super::{Diagnoses, Sureness};
use crate::finding::{Code, Finding};
use crate::machine::ask_php;
use crate::survey::Survey;
use crate::survey::recognise::{compare_versions, version_fits};

/// Asks PHP for its version and for extensions.
fn ask(extensions: &[String]) -> Option<(String, Vec<String>)> {
    let list = extensions.iter().filter(|e| e.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'_'));
    let list: Vec<String> = list.map(|e| format!("'{e}'")).collect();
    let code = format!(
        "echo PHP_VERSION, \"\\n\"; foreach ([{}] as $e) if (!extension_loaded($e)) echo $e, \"\\n\";",
        list.join(",")
    );
    let text = ask_php(&code)?;
    let mut lines = text.lines().map(str::to_string);
    let version = lines.next().filter(|v| v.starts_with(|c: char| c.is_ascii_digit()))?;
    Some((version, lines.collect()))
}

/// Compares.
pub fn php(survey: &Survey, out: &mut Diagnoses) {
    let version = survey.recognised.version.as_deref();
    let lines = &survey.recognised.definition.php;
    let Some(line) = lines.iter().find(|l| version_fits(version, l.from.as_deref(), l.below.as_deref()))
    else {
        return out.saw("PHP", "the definition does not say which one the system needs");
    };
    let Some((here, missing)) = ask(&line.extensions) else {
        return out.saw("PHP", "nobody could look: there is no `php` on this machine");
    };
    let product = format!("{} {}", survey.recognised.product, version.unwrap_or_default());
    if compare_versions(&here, &line.least).is_lt() {
        let what = format!("PHP {here} is here, and {product} needs {} or newer", line.least);
        let cure = "choose a newer PHP for this site";
        out.add(Sureness::Certain, Finding::new(Code::PhpUnfit, what, "php", cure));
    } else if let Some(under) = line.under.as_deref().filter(|u| compare_versions(&here, u).is_ge()) {
        let what = format!("PHP {here} is here, and {product} was made for versions below {under}");
        let cure = "choose an older PHP for this site, or update the system";
        out.add(Sureness::Likely, Finding::new(Code::PhpUnfit, what, "php", cure));
    }
    if !missing.is_empty() {
        let what = format!("PHP lacks what {product} needs: {}", missing.join(", "));
        let cure =
            "install the extensions (Debian: packages php-NAME), or switch them on in the host's panel";
        out.add(Sureness::Likely, Finding::new(Code::PhpUnfit, what, "php", cure));
    }
    if out.looked.iter().all(|l| l.at != "PHP") {
        out.saw("PHP", format!("{here}, as it runs from a shell; the web server may use another"));
    }
}
