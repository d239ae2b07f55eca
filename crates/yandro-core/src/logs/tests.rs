//! Lines as the servers write them.

use time::macros::datetime;

use super::*;

#[test]
fn requests_are_read_in_the_usual_formats() {
    let at = Some(datetime!(2026-11-30 20:08:18 UTC));
    let line = |line: &str| {
        let entry = access_entry(line, None);
        assert_eq!(entry.at, at, "{line}");
        match entry.event {
            LogEvent::Request { host, client, request, status, bytes, rest, .. } => {
                format!("{host:?} {client} {request} {status} {bytes:?} {rest:?}")
            }
            other => panic!("{other:?}"),
        }
    };
    let time = "[30/Nov/2026:21:08:18 +0100]";
    assert_eq!(
        line(&format!(r#"127.0.0.1 - - {time} "GET /tides?x=1 HTTP/1.1" 200 12 "-" "Mozilla/5.0 (\"x\")""#)),
        r#"None 127.0.0.1 GET /tides?x=1 200 Some(12) """#
    );
    assert_eq!(
        line(&format!(r#"::1 - ada {time} "POST / HTTP/2.0" 304 - "https://saltmarsh.test/" "curl" 0.012"#)),
        r#"None ::1 POST / 304 None "0.012""#
    );
    assert_eq!(
        line(&format!(r#"saltmarsh.test:443 127.0.0.1 - - {time} "GET / HTTP/1.1" 500 7 "-" "curl""#)),
        r#"Some("saltmarsh.test") 127.0.0.1 GET / 500 Some(7) """#
    );
    assert_eq!(
        line(&format!(r#"10.0.0.7 - - {time} "GET / HTTP/1.0" 404 162"#)),
        r#"None 10.0.0.7 GET / 404 Some(162) """#
    );
    assert_eq!(
        line(&format!(r#"10.0.0.7 - - {time} "\x16\x03\x01" 400 0 "-" "-""#)),
        r#"None 10.0.0.7 \x16\x03\x01 400 Some(0) """#
    );
    for other in ["", "nonsense", "a [b] \"c", "{\"json\": true}"] {
        assert_eq!(access_entry(other, None).event, LogEvent::Other, "{other}");
    }
}

#[test]
fn errors_are_read_from_both_servers() {
    let zone = UtcOffset::from_hms(1, 0, 0).unwrap();
    let read = |line: &str| {
        let entry = error_entry(line, zone);
        let is_fault = entry.event.is_fault();
        match entry.event {
            LogEvent::Error { level, host, message } => (entry.at, format!("{level} {host:?} {is_fault} {message}")),
            other => (entry.at, format!("{other:?}")),
        }
    };
    let at = Some(datetime!(2026-11-03 20:08:18 +1));
    assert_eq!(
        read(
            "[Tue Nov 03 20:08:18.123456 2026] [proxy_fcgi:error] [pid 7:tid 8] [client ::1:5] AH01071: Got error 'PHP message: x'"
        ),
        (at, "error None true AH01071: Got error 'PHP message: x'".into())
    );
    assert_eq!(read("[Tue Nov  3 20:08:18 2026] [notice] AH1: resuming").1, "notice None false AH1: resuming");
    assert_eq!(
        read(
            r#"2026/11/03 20:08:18 [error] 7#8: *9 open() "/srv/x" failed, client: ::1, server: saltmarsh.test, request: "GET /x HTTP/1.1", host: "saltmarsh.test:8443""#
        ),
        (at, r#"error Some("saltmarsh.test") true open() "/srv/x" failed (GET /x)"#.into())
    );
    assert_eq!(read("  thrown in /srv/index.php on line 3").1, "Other");
}
