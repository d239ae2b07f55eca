//! Programs with a list of roots, or the system's, and the command by which each of them
//! requests a page.

/// A program that can be had to ask for a page over HTTPS.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Runtime {
    /// Title for people.
    pub title: &'static str,
    /// The name of the program, looked for on the person's path.
    pub program: &'static str,
    /// Its arguments; `{url}` is replaced by the page.
    pub arguments: &'static [&'static str],
    /// Its standard input.
    pub input: &'static str,
}

/// The exit status of a script below whose library isn't installed.
pub const NOT_INSTALLED: i32 = 93;

/// The runtimes that are tested.
pub const RUNTIMES: &[Runtime] = &[
    Runtime {
        title: "curl",
        program: "curl",
        arguments: &["--silent", "--max-time", "5", "--output", "/dev/null", "{url}"],
        input: "",
    },
    Runtime {
        title: "wget",
        program: "wget",
        arguments: &["--quiet", "--tries=1", "--timeout=5", "--output-document=/dev/null", "{url}"],
        input: "",
    },
    Runtime { title: "git", program: "git", arguments: &["ls-remote", "{url}"], input: "" },
    Runtime {
        title: "OpenSSL",
        program: "openssl",
        arguments: &[
            "s_client",
            "-quiet",
            "-verify_quiet",
            "-verify_return_error",
            "-verify_ip",
            "127.0.0.1",
            "-connect",
            "{host}",
        ],
        input: "GET {path} HTTP/1.0\r\n\r\n",
    },
    Runtime {
        title: "Python",
        program: "python3",
        arguments: &["-c", "import sys, urllib.request; urllib.request.urlopen(sys.argv[1], timeout=5)", "{url}"],
        input: "",
    },
    Runtime {
        title: "Python's requests",
        program: "python3",
        arguments: &[
            "-c",
            "import importlib.util, sys\nif importlib.util.find_spec('requests') is None: sys.exit(93)\nimport requests\nrequests.get(sys.argv[1], timeout=5)",
            "{url}",
        ],
        input: "",
    },
    Runtime {
        title: "Node",
        program: "node",
        arguments: &[
            "-e",
            "require('https').get(process.argv[1], () => process.exit(0)).on('error', () => process.exit(1))",
            "{url}",
        ],
        input: "",
    },
    Runtime { title: "Deno", program: "deno", arguments: &["eval", "await fetch(Deno.args[0])", "{url}"], input: "" },
    Runtime { title: "PHP", program: "php", arguments: &["-r", "@file_get_contents($argv[1]);", "{url}"], input: "" },
    Runtime {
        title: "Ruby",
        program: "ruby",
        arguments: &["-rnet/http", "-e", "Net::HTTP.get(URI(ARGV[0]))", "{url}"],
        input: "",
    },
    Runtime {
        title: "Perl",
        program: "perl",
        arguments: &[
            "-e",
            "eval { require HTTP::Tiny; require IO::Socket::SSL; 1 } or exit 93; HTTP::Tiny->new(verify_SSL => 1, timeout => 5)->get($ARGV[0])",
            "{url}",
        ],
        input: "",
    },
];

/// A program for Java's source launcher (JEP 330): a runtime without a compiler can't run it.
pub const JAVA_SOURCE: &str = "public class Ask { public static void main(String[] a) throws Exception { var c = new java.net.URL(a[0]).openConnection(); c.setConnectTimeout(5000); c.setReadTimeout(5000); c.getInputStream().close(); } }\n";
