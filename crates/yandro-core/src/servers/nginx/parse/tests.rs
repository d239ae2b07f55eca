use super::*;
use proptest::prelude::*;

fn values(own: &Directive) -> Vec<&str> {
    own.values().collect()
}

#[test]
fn traps_are_stepped_over() {
    let text = br#"http {
"server" {listen 80;server_name a.test
# b.test; }
c.test;	set $x "it's; {\"}\n";
	location ~ \.(php|x)$ { return 200 ${host}x; } }
  map $a $b { "{a}" 429; default a#b; }
  content_by_lua_block { local s = "}" -- }
local l = [==[ } ]] ]==] if x then t = {} end }
}
"#;
    let tree = parse(text).unwrap();
    let http = tree.sections("http").next().unwrap();
    let server = http.sections("server").next().unwrap();
    assert_eq!(values(server.directives("server_name").next().unwrap()), ["a.test", "c.test"]);
    assert_eq!(values(server.directives("set").next().unwrap()), ["$x", "it's; {\"}\n"]);
    let location = server.sections("location").next().unwrap();
    assert_eq!(values(&location.open), ["~", r"\.(php|x)$"]);
    assert_eq!(values(location.directives("return").next().unwrap()), ["200", "${host}x"]);
    let map = http.sections("map").next().unwrap();
    assert_eq!(values(map.directives("default").next().unwrap()), ["a#b"]);
    assert_eq!(map.directives("{a}").count(), 1);
    let lua = http.sections("content_by_lua_block").next().unwrap();
    assert!(text[lua.close.clone()].ends_with(b"}") && lua.nodes.is_empty());
    // A whole line is removed, a shared one is not.
    assert_eq!(&text[server.directives("listen").next().unwrap().span.clone()], b"listen 80;");
    assert_eq!(server.open.line, 2);
}

#[test]
fn faults_are_shown() {
    let shown = |text: &str| parse(text.as_bytes()).unwrap_err().to_string();
    insta::assert_snapshot!(shown("http {\n\tserver {\n}\n"), @"
    `http` is never closed
      1 | http {
        | ^^^^^^
    ");
    insta::assert_snapshot!(shown("http {\n\tlisten 80\n}\n"), @"
    a `;` is missing behind this statement
      2 |  listen 80
        |  ^^^^^^
    ");
    insta::assert_snapshot!(shown("user www;\nroot \"/srv;\n"), @r#"
    this quote is never closed
      2 | root "/srv;
        |      ^
    "#);
    insta::assert_snapshot!(shown("a;\n}\n"), @"
    this `}` closes a block that is not open
      2 | }
        | ^
    ");
    insta::assert_snapshot!(shown("root \"a\"b;"), @r#"
    after a quote there has to be a blank, `;` or `{`
      1 | root "a"b;
        |         ^
    "#);
    insta::assert_snapshot!(shown("{}"), @"
    this `{` opens a block without a name
      1 | {}
        | ^
    ");
    insta::assert_snapshot!(shown("a ;;"), @"
    this `;` ends nothing
      1 | a ;;
        |    ^
    ");
    insta::assert_snapshot!(shown("listen 80"), @"
    this statement has no end: a `;` is missing
      1 | listen 80
        | ^^^^^^
    ");
}

proptest! {
    #[test]
    fn spans_lie_in_any_text_and_nothing_panics(text in r#"([{};# "'\\$\[\]=\-a\r\n\t]|x_by_lua_block|\$\{a\}){0,60}"#) {
        fn check(nodes: &[Node], bytes: &[u8]) -> Result<(), TestCaseError> {
            for node in nodes {
                let own = match node {
                    Node::Directive(own) => own,
                    Node::Section(section) => {
                        prop_assert!(section.close.end <= bytes.len() && section.open.span.end <= section.close.start);
                        check(&section.nodes, bytes)?;
                        &section.open
                    }
                };
                prop_assert!(own.span.end <= bytes.len());
                for argument in &own.arguments {
                    prop_assert!(own.span.start <= argument.span.start && argument.span.end <= own.span.end);
                }
            }
            Ok(())
        }
        if let Ok(tree) = parse(text.as_bytes()) {
            check(&tree.nodes, text.as_bytes())?;
        }
    }
}
