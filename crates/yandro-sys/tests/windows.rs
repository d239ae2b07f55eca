//! The helper with an administrator's rights, as it is started and spoken with: what it does, and what it refuses; and
//! services. On a machine for tests only, with the program in `YANDRO_EXE`.
#![cfg(windows)]

use std::env;
use std::fs;
use std::io::{BufRead as _, BufReader, Write as _};
use std::time::Duration;

use yandro_sys::windows::descriptor::Descriptor;
use yandro_sys::windows::elevation::{self, Pipe};
use yandro_sys::windows::{Sid, services, users};

#[test]
fn the_helper_speaks_by_a_pipe_and_does_only_what_its_own_plan_says() {
    let (Some(_), Ok(program)) = (env::var_os("YANDRO_TEST_MACHINE"), env::var("YANDRO_EXE")) else {
        assert!(env::var_os("YANDRO_REQUIRE_REAL").is_none(), "no Windows is there for the test");
        return;
    };
    let hosts = r"C:\Windows\System32\drivers\etc\hosts";
    let before = fs::read(hosts).unwrap();
    let name = format!("yandro-{}", std::process::id());
    let allowed = Descriptor::only(&[users::this_user().unwrap(), Sid::SYSTEM, Sid::ADMINISTRATORS]);
    let pipe = Pipe::new(&name, &allowed).unwrap();
    assert!(Pipe::new(&name, &allowed).is_err(), "nobody else can make it");
    let helper = elevation::start(&program, &format!("privileged --pipe {name}")).unwrap();
    let mut pipe = pipe.connected(&helper).unwrap();
    let mut answers = BufReader::new(pipe.try_clone().unwrap()).lines();
    let mut answer = || answers.next().unwrap().unwrap();
    assert_eq!(answer(), r#"{"answer":"ready"}"#);
    let mut ask = |request: &str| {
        pipe.write_all(format!("{request}\n").as_bytes()).unwrap();
        answer()
    };
    assert!(ask("{}").contains("this is not a request"));
    let evil = r#"{"step":"change","path":"C:\\Windows\\System32\\drivers\\etc\\hosts","to":{"is":"absent"},"tag":"00000001","in_place":false}"#;
    assert!(ask(evil).contains(r#""answer":"refused""#));
    let server = r#"{"step":"control","server":"nobodys","verb":"stop"}"#;
    assert!(ask(server).contains(r#""answer":"refused""#));
    assert_eq!(ask(r#"{"step":"forget"}"#), r#"{"answer":"done"}"#);
    assert_eq!(fs::read(hosts).unwrap(), before);
    drop((answers, pipe));
    // It ends with its pipe.
    helper.end(Duration::from_secs(60));
}

#[test]
fn a_pipe_of_a_program_that_ends_is_no_helper() {
    if env::var_os("YANDRO_TEST_MACHINE").is_none() {
        return;
    }
    let pipe = Pipe::new("yandro-nobody", &Descriptor::only(&[Sid::SYSTEM])).unwrap();
    let other = elevation::start(r"C:\Windows\System32\hostname.exe", "").unwrap();
    assert!(pipe.connected(&other).is_err());
    assert!(elevation::connect(r"..\yandro").is_err(), "a pipe name must not be a path");
}

#[test]
fn services_are_listed_with_their_command_lines() {
    // Windows's installer, which every Windows has.
    let all = services::all();
    let installer = all.iter().find(|(name, _)| name.eq_ignore_ascii_case("msiserver")).map(|(_, line)| line);
    assert!(installer.is_some_and(|line| line.to_lowercase().contains(r"\msiexec")), "{all:?}");
}
