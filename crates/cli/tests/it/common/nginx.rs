//! A private nginx with php-fpm on loopback: every host name has a folder of its own, and what is not there goes to the nearest front page.

use super::mariadb::free_port;
use std::net::TcpStream;
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

/// A running pair of servers, stopped when dropped or when the test process ends.
pub struct Nginx {
    pub port: u16,
    keepers: Vec<Child>,
}

/// The program that runs PHP for other servers, by whatever version it is named.
fn fpm() -> Option<PathBuf> {
    let all = std::fs::read_dir("/usr/sbin").ok()?.flatten().map(|e| e.path());
    all.into_iter().find(|p| p.file_name().is_some_and(|n| n.to_string_lossy().starts_with("php-fpm")))
}

/// Runs a program that ends with this process.
fn kept(command: &str) -> Child {
    let script = format!("{command} & pid=$!; cat >/dev/null; kill $pid; wait $pid");
    Command::new("sh").args(["-c", &script]).stdin(Stdio::piped()).process_group(0).spawn().unwrap()
}

impl Nginx {
    /// Serves the folders below `web`, each named after its host, with sites in `/branch/site`. `work` is for its own files.
    pub fn serve(web: &Path, work: &Path) -> Option<Nginx> {
        let Some(fpm) = fpm().filter(|_| Path::new("/usr/sbin/nginx").exists()) else {
            super::missing("nginx and php-fpm");
            return None;
        };
        let port = free_port();
        let (web, own) = (web.display(), work.display());
        let socket = std::env::temp_dir().join(format!("zp-fpm-{port}.sock"));
        let socket = socket.display();
        std::fs::write(
            work.join("fpm.conf"),
            format!(
                "[global]\nerror_log = \"{own}/fpm.log\"\ndaemonize = no\n[www]\nuser = www-data\ngroup = www-data\nlisten = {socket}\nlisten.mode = 0666\n\
                 pm = static\npm.max_children = 3\n"
            ),
        )
        .unwrap();
        let config = format!(
            "daemon off;\nuser www-data;\nworker_processes 1;\npid \"{own}/nginx.pid\";\nerror_log \"{own}/nginx.log\";\nevents {{}}\nhttp {{\n\
             include /etc/nginx/mime.types;\naccess_log off;\nclient_body_temp_path \"{own}/body\";\nproxy_temp_path \"{own}/proxy\";\nfastcgi_temp_path \"{own}/fastcgi\";\n\
             uwsgi_temp_path \"{own}/uwsgi\";\nscgi_temp_path \"{own}/scgi\";\n\
             server {{\nlisten 127.0.0.1:{port};\nserver_name ~^(?<folder>.+)$;\nroot \"{web}/$folder\";\nindex index.php index.html;\n\
             location / {{ try_files $uri $uri/ /branch/site/index.php?$args; }}\nlocation ~ /\\. {{ deny all; }}\n\
             location ~ \\.php$ {{ try_files $uri =404; include /etc/nginx/fastcgi.conf; fastcgi_pass unix:{socket}; }}\n}}\n}}\n"
        );
        std::fs::write(work.join("nginx.conf"), config).unwrap();
        let keepers = vec![
            kept(&format!("'{}' -R -y '{own}/fpm.conf' >'{own}/fpm.out' 2>&1", fpm.display())),
            kept(&format!("/usr/sbin/nginx -c '{own}/nginx.conf' >'{own}/nginx.out' 2>&1")),
        ];
        let nginx = Nginx { port, keepers };
        let began = Instant::now();
        while TcpStream::connect(("127.0.0.1", port)).is_err() {
            let log = std::fs::read_to_string(work.join("nginx.out")).unwrap_or_default();
            assert!(began.elapsed() < Duration::from_secs(20), "nginx does not answer: {log}");
            std::thread::sleep(Duration::from_millis(30));
        }
        Some(nginx)
    }
}

impl Drop for Nginx {
    fn drop(&mut self) {
        for keeper in &mut self.keepers {
            drop(keeper.stdin.take());
            let _ = keeper.wait();
        }
        let _ = std::fs::remove_file(std::env::temp_dir().join(format!("zp-fpm-{}.sock", self.port)));
    }
}
