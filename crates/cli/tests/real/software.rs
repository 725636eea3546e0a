//! The software: unmodified packages of Debian, with the configuration that they come with wherever that is possible.

/// How it is asked whether it works.
pub(crate) enum Probe {
    /// `GET /` through the gateway answers 200 with this in it.
    Http(&'static str),
    /// These bytes are sent to its port through the gateway; what comes back has these in it.
    Tcp(&'static [u8], &'static [u8]),
    /// It listens nowhere; its log has this.
    Log(&'static str),
}

/// One piece of software.
pub(crate) struct Software {
    /// Its name in the table, and the workload's.
    pub(crate) name: &'static str,
    /// What it is.
    pub(crate) about: &'static str,
    /// Debian's packages, beside the smallest system; empty for an image that has its program alone.
    pub(crate) packages: &'static str,
    /// Files that are put into the image, by path; a content that begins with `->` is a link.
    pub(crate) files: &'static [(&'static str, &'static str)],
    /// The image's command.
    pub(crate) command: &'static [&'static str],
    /// Its port; 0 for none.
    pub(crate) port: u16,
    /// Memory in MiB.
    pub(crate) memory: u64,
    /// How it is asked.
    pub(crate) probe: Probe,
    /// What its log has once it was asked.
    pub(crate) log: &'static str,
}

const PYTHON: &str = "\
import http.server, os, socket, sys
class App(http.server.BaseHTTPRequestHandler):
    def do_GET(self):
        body = ('python on %d processors, web is at %s\\n' % (os.cpu_count(), socket.gethostbyname('web'))).encode()
        self.send_response(200); self.send_header('content-length', str(len(body))); self.end_headers(); self.wfile.write(body)
    protocol_version = 'HTTP/1.1'
http.server.ThreadingHTTPServer(('', 8080), App).serve_forever()
";

const NODE: &str = "\
const http = require('http')
const server = http.createServer((request, answer) => { console.log('asked', request.url); answer.end('node on ' + require('os').cpus().length + '\\n') })
server.listen(8080)
process.on('SIGTERM', () => { console.log('asked to stop'); server.close(); server.closeIdleConnections() })
";

const JAVA: &str = "\
import com.sun.net.httpserver.HttpServer;
import java.net.InetSocketAddress;
public class App {
    public static void main(String[] words) throws Exception {
        HttpServer server = HttpServer.create(new InetSocketAddress(8080), 0);
        server.setExecutor(java.util.concurrent.Executors.newFixedThreadPool(8));
        server.createContext(\"/\", exchange -> {
            Runtime runtime = Runtime.getRuntime();
            String text = \"java has \" + runtime.maxMemory() / (1 << 20) + \" MiB and \" + runtime.availableProcessors() + \" processors\\n\";
            System.out.println(\"asked\");
            exchange.sendResponseHeaders(200, text.length());
            exchange.getResponseBody().write(text.getBytes());
            exchange.close();
        });
        server.start();
    }
}
";

/// A server in C, to be linked with musl: `GET /` answers the address of the service `web`.
pub(crate) const MUSL: &str = "\
#include <arpa/inet.h>
#include <netdb.h>
#include <stdio.h>
#include <string.h>
#include <unistd.h>
int main(void) {
    int listener = socket(AF_INET, SOCK_STREAM, 0), yes = 1;
    struct sockaddr_in all = { .sin_family = AF_INET, .sin_port = htons(80) };
    setsockopt(listener, SOL_SOCKET, SO_REUSEADDR, &yes, sizeof yes);
    if (bind(listener, (void *)&all, sizeof all) || listen(listener, 64)) { perror(\"listen\"); return 1; }
    for (;;) {
        int one = accept(listener, 0, 0);
        char head[4096], body[200], answer[400];
        if (read(one, head, sizeof head) <= 0) { close(one); continue; }
        struct addrinfo *found = 0;
        int error = getaddrinfo(\"web\", 0, 0, &found);
        snprintf(body, sizeof body, \"musl: web is %s\\n\", error ? gai_strerror(error) : \"known\");
        if (found) freeaddrinfo(found);
        int length = snprintf(answer, sizeof answer, \"HTTP/1.1 200 OK\\r\\ncontent-length: %zu\\r\\nconnection: close\\r\\n\\r\\n%s\", strlen(body), body);
        write(one, answer, length);
        close(one);
        puts(\"asked\");
        fflush(stdout);
    }
}
";

pub(crate) const ALL: &[Software] = &[
    Software {
        name: "web",
        about: "web server, its logs linked to the streams",
        packages: "nginx-light",
        files: &[("var/log/nginx/access.log", "->/dev/stdout"), ("var/log/nginx/error.log", "->/dev/stderr")],
        command: &["nginx", "-g", "daemon off;"],
        port: 80,
        memory: 64,
        probe: Probe::Http("Welcome to nginx"),
        log: "GET / HTTP/1.1",
    },
    Software {
        name: "store",
        about: "in-memory store",
        packages: "redis-server",
        files: &[],
        command: &["redis-server", "--bind", "0.0.0.0", "--protected-mode", "no"],
        port: 6379,
        memory: 64,
        probe: Probe::Tcp(b"SET a 1\r\nGET a\r\n", b"$1\r\n1\r\n"),
        log: "Ready to accept connections",
    },
    Software {
        name: "database",
        about: "database server, as its own account",
        packages: "postgresql-15",
        files: &[],
        // Debian makes the directory of the socket when the machine starts, not when the package is installed.
        command: &[
            "bash",
            "-c",
            "install -d -o postgres /run/postgresql && exec setpriv --reuid postgres --regid postgres --init-groups \
             /usr/lib/postgresql/15/bin/postgres -D /var/lib/postgresql/15/main \
             -c config_file=/etc/postgresql/15/main/postgresql.conf -c 'listen_addresses=*'",
        ],
        port: 5432,
        memory: 256,
        // SSLRequest (PostgreSQL's documentation, "SSL Session Encryption"): S or N is answered.
        probe: Probe::Tcp(&[0, 0, 0, 8, 4, 0xd2, 0x16, 0x2f], b""),
        log: "ready to accept connections",
    },
    Software {
        name: "database-two",
        about: "another database server, which changes its account by itself",
        packages: "mariadb-server",
        files: &[],
        command: &["bash", "-c", "install -d -o mysql /run/mysqld && exec mariadbd --user=mysql --bind-address=0.0.0.0"],
        port: 3306,
        memory: 512,
        probe: Probe::Tcp(b"", b"MariaDB"),
        log: "ready for connections",
    },
    Software {
        name: "python-app",
        about: "Python web application",
        packages: "python3-minimal,libpython3-stdlib,python3",
        files: &[("srv/app.py", PYTHON)],
        command: &["python3", "-u", "/srv/app.py"],
        port: 8080,
        memory: 128,
        probe: Probe::Http("python on 1 processors, web is at 10."),
        log: "GET / HTTP/1.1",
    },
    Software {
        name: "node-app",
        about: "Node.js web application",
        packages: "nodejs",
        files: &[("srv/app.js", NODE)],
        command: &["node", "/srv/app.js"],
        port: 8080,
        memory: 256,
        probe: Probe::Http("node on "),
        log: "asked /",
    },
    Software {
        name: "java-app",
        about: "Java web application, whose heap follows its limit",
        packages: "openjdk-17-jdk-headless",
        files: &[("srv/App.java", JAVA)],
        command: &["java", "/srv/App.java"],
        port: 8080,
        memory: 512,
        // A quarter of the limit, as the Java runtime takes it by itself.
        probe: Probe::Http("java has 1"),
        log: "asked",
    },
    Software {
        name: "mail",
        about: "mail relay",
        packages: "exim4-daemon-light",
        files: &[("etc/exim4/update-exim4.conf.conf", "dc_eximconfig_configtype='local'\ndc_local_interfaces=''\n")],
        command: &["bash", "-c", "update-exim4.conf && exec exim4 -bdf -q30m -oX 25"],
        port: 25,
        memory: 64,
        probe: Probe::Tcp(b"", b"220 "),
        log: "",
    },
    Software {
        name: "names",
        about: "DNS server, over TCP",
        packages: "unbound,dns-root-data",
        files: &[(
            "etc/unbound/unbound.conf.d/here.conf",
            "server:\n  use-syslog: no\n  interface: 0.0.0.0\n  access-control: 0.0.0.0/0 allow\n  local-zone: \"example.\" static\n  local-data: \"kiosk.example. A 192.0.2.7\"\n",
        )],
        command: &["bash", "-c", "/usr/libexec/unbound-helper root_trust_anchor_update; exec unbound -d -p"],
        port: 53,
        memory: 64,
        // RFC 1035: kiosk.example, type A, in class IN; the answer holds 192.0.2.7.
        probe: Probe::Tcp(
            b"\x00\x1f\x12\x34\x01\x00\x00\x01\x00\x00\x00\x00\x00\x00\x05kiosk\x07example\x00\x00\x01\x00\x01",
            &[192, 0, 2, 7],
        ),
        log: "start of service",
    },
    Software {
        name: "broker",
        about: "message broker",
        packages: "mosquitto",
        files: &[("etc/mosquitto/conf.d/here.conf", "listener 1883 0.0.0.0\nallow_anonymous true\nlog_dest stdout\n")],
        command: &[
            "bash",
            "-c",
            "install -d -o mosquitto /run/mosquitto && exec mosquitto -c /etc/mosquitto/mosquitto.conf",
        ],
        port: 1883,
        memory: 64,
        // MQTT 3.1.1, CONNECT; CONNACK is answered.
        probe: Probe::Tcp(b"\x10\x0d\x00\x04MQTT\x04\x02\x00\x3c\x00\x01a", b"\x20\x02\x00\x00"),
        log: "New client connected",
    },
    Software {
        name: "cron",
        about: "cron daemon, in the background",
        packages: "cron",
        files: &[("etc/cron.d/tick", "* * * * * root echo tick by $(id -un) >> /run/tick\n")],
        command: &["bash", "-c", "touch /run/tick; cron && cat /run/crond.pid && exec tail -f /run/tick"],
        port: 0,
        memory: 64,
        probe: Probe::Log("tick by root"),
        log: "",
    },
    Software {
        name: "script",
        about: "shell script that traps signals",
        packages: "bash",
        files: &[("srv/loop.sh", "trap 'echo put away; exit 0' TERM\necho begun\nwhile :; do sleep 1 & wait; done\n")],
        command: &["bash", "/srv/loop.sh"],
        port: 0,
        memory: 32,
        probe: Probe::Log("begun"),
        log: "",
    },
    Software {
        name: "static",
        about: "static program with musl, in an image of its own",
        packages: "",
        files: &[],
        command: &["/server"],
        port: 80,
        memory: 16,
        probe: Probe::Http("musl: web is known"),
        log: "asked",
    },
];
