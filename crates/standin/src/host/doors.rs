//! Doors of back offices on the small host, each with the page behind it.

use super::{Asked, Body, Response, Shared, file, page};

/// How somebody gets in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Door {
    /// That of a portal: one form around each page, whose fields have names that the program makes.
    Portal,
    /// The web server's own: nothing is shown before somebody says who he is.
    Server,
    /// That of a blog whose back office is a script, which sends and gets JSON; with the folder of its line's interface.
    Script(&'static str),
}

/// The door of a portal on ASP.NET: it wants its own state back, and to be told which button was pressed.
pub(super) fn portal(query: &str, form: &str) -> Response {
    let has = |part: &str| form.split('&').any(|p| p == part);
    let pressed = has("__EVENTTARGET=dnn%24ctr%24Login%24Login_DNN%24cmdLogin");
    let known = has("dnn%24ctr%24Login%24Login_DNN%24txtUsername=host")
        && has("dnn%24ctr%24Login%24Login_DNN%24txtPassword=fake-Nova-1604");
    if query == "ctl=Login" && pressed && has("__VIEWSTATE=fake%2Fstate%3D%3D") && known {
        return page(
            200,
            "<!doctype html><title>Host</title><h1>Welcome</h1><a href='Default.aspx?tabid=7'>Pages</a><a href='Default.aspx?ctl=Logoff'>Logoff</a>",
        );
    }
    if query == "tabid=7" {
        return page(200, "<!doctype html><title>Pages</title><h1>Pages of the portal</h1>");
    }
    page(
        200,
        "<!doctype html><title>Log in</title><form method=post action='Default.aspx?ctl=Login'><input type=hidden name=__EVENTTARGET value=''>\
         <input type=hidden name=__VIEWSTATE value='fake/state=='><input name='dnn$ctr$Login$Login_DNN$txtUsername'>\
         <input type=password name='dnn$ctr$Login$Login_DNN$txtPassword'></form>",
    )
}

impl Shared {
    /// The back office of a blog: a page for browsers, and what its script asks for.
    pub(super) fn office(&self, line: &str, below: &str, query: &str, asked: &Asked) -> Response {
        let json = |status: u16, text: &str| Response { status, ..file("application/json", text) };
        if below == "ghost/" {
            let page_text = "<!doctype html><title>Desk</title><meta name=\"ghost-admin/config/environment\" content=\"{}\"><div id=app></div><script>0</script>";
            return page(200, page_text);
        }
        let refused =
            |status: u16, why: &str| json(status, &format!("{{\"errors\":[{{\"message\":\"{why}\"}}]}}"));
        let Some(thing) = below.strip_prefix("ghost/").and_then(|b| b.strip_prefix(line)) else {
            return refused(404, "Resource not found");
        };
        match (asked.method.as_str(), thing) {
            ("POST", "session/") if !asked.has("origin", &format!("http://{}", self.served.name)) => {
                refused(400, "The origin of the request is not known")
            }
            ("POST", "session/") if !asked.has("content-type", "application/json") => {
                refused(415, "Not understood")
            }
            ("POST", "session/")
                if asked.body
                    == "{\"password\":\"fake-\\\"Nova\\\\1604\",\"username\":\"keeper@fernhollow.example\"}" =>
            {
                let cookie = "ghost-admin-api-session=fake-session; Path=/; HttpOnly".to_string();
                Response {
                    status: 201,
                    kind: "text/plain",
                    headers: vec![("Set-Cookie", cookie)],
                    body: Body::Bytes(b"Created".to_vec()),
                }
            }
            ("POST", "session/") => refused(422, "The password is not right."),
            _ if !asked.has("cookie", "ghost-admin-api-session=fake-session") => {
                refused(403, "Authorization failed")
            }
            (_, "users/me/") => json(200, "{\"users\":[{\"name\":\"Keeper\"}]}"),
            (_, "config/") => json(200, "{\"config\":{\"version\":\"5.130\"}}"),
            (_, "posts/") if query == "limit=3" => {
                json(200, &format!("{{\"posts\":[{{\"url\":\"{}/a\"}}]}}", self.served.old))
            }
            _ => refused(404, "Resource not found"),
        }
    }
}
