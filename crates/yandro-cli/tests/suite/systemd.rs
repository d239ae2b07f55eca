//! A machine that a real systemd runs: servers as units, their sandboxes, timers, the resolver's cache; all as Ada, an
//! ordinary user who may use sudo, and as Bob, who may not.

use std::path::PathBuf;
use std::process::Command;
use std::sync::OnceLock;

use super::kit::{Ran, YANDRO, has};

const REPOSITORY: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../..");

/// The users, and words for the scripts.
const PRELUDE: &str = r#"
set -eEu
trap 'echo "line $LINENO: $BASH_COMMAND"' ERR
export LC_ALL=C.UTF-8
for user in ada bob; do useradd --create-home --shell /bin/bash $user; chmod 755 /home/$user; done
echo 'ada ALL=(ALL) NOPASSWD: ALL' > /etc/sudoers.d/ada
install -m 755 /mnt/yandro /usr/local/bin/yandro
# As a user, in their home folder: ada COMMAND
ada() { su - ada -c "$1"; }
bob() { su - bob -c "$1"; }
# Each says what was wrong: says COMMAND WORDS, or is_found CODE for Ada's first site
says() { out=$(sh -c "$1" 2>&1) || true; case $out in *"$2"*) ;; *) echo "no \`$2\` in: $1"; echo "$out"; exit 1 ;; esac; }
codes() { su - "${1:-ada}" -c 'yandro check --json || true' | grep -o '"code":"[^"]*"' | tr '\n' ' '; }
is_found() {
  for _ in $(seq 40); do found=$(codes); [ "$found" = "\"code\":\"$1\" " ] && return 0; sleep 0.1; done
  echo "not $1 alone: $found"; ada 'yandro check'; exit 1
}
# Waits until a command prints a text: prints TEXT COMMAND
prints() {
  for _ in $(seq 100); do seen=$(sh -c "$2" 2>/dev/null || true); [ "$seen" = "$1" ] && return 0; sleep 0.1; done
  echo "not \`$1\` but \`$seen\`: $2"; exit 1
}
is_well() {
  for _ in $(seq 40); do [ -z "$(codes)" ] && return 0; sleep 0.1; done
  echo "not well"; ada 'yandro check'; exit 1
}
# What is told to fix it, pasted by Ada, fixes it.
pasted() {
  fix=$(ada 'yandro check' | sed -n 's/^ *fix: //p' | head -1)
  ada "$fix" >/tmp/pasted 2>&1 || true
  for _ in $(seq 40); do [ -z "$(codes)" ] && return 0; sleep 0.1; done
  echo "doesn't fix it: $fix"; cat /tmp/pasted; ada 'yandro check'; exit 1
}
project() { ada "mkdir -p $1; echo '<h1>$1</h1>' > $1/index.html"; }
"#;

/// Runs a script as root in a separate machine; `None`, with a word on it, where there can't be one.
fn booted(script: &str) -> Option<Ran> {
    static ROOT: OnceLock<PathBuf> = OnceLock::new();
    if !has(&["debootstrap", "unshare", "nsenter", "ip"], true) {
        return None;
    }
    let root = ROOT.get_or_init(|| {
        let root = PathBuf::from(env!("CARGO_TARGET_TMPDIR")).parent().unwrap().join("systemd-root");
        if !root.is_dir() {
            let made =
                Command::new("scripts/systemd-machine").arg("--make").arg(&root).current_dir(REPOSITORY).output();
            Ran::of(made.unwrap(), &root).succeeds();
        }
        root
    });
    let folder = tempfile::tempdir().unwrap();
    std::fs::copy(YANDRO, folder.path().join("yandro")).unwrap();
    std::fs::write(folder.path().join("script"), format!("{PRELUDE}{script}")).unwrap();
    let machine = format!("{REPOSITORY}/scripts/systemd-machine");
    let ran = Command::new(machine).arg(root).args(["bash", "/mnt/script"]).current_dir(folder.path()).output();
    Some(Ran::of(ran.unwrap(), folder.path()))
}

#[test]
fn an_ordinary_user_maps_checks_and_controls_servers_that_are_units() {
    let script = r#"
        project saltmarsh
        for server in nginx apache; do
          unit=$server; [ $server = nginx ] || unit=apache2
          ada "yandro map saltmarsh.test ./saltmarsh --server $server -q"
          prints active "systemctl is-active $unit"; is_well
          ada "yandro servers stop $server -q"
          prints inactive "systemctl is-active $unit"
          is_found server-down; pasted
          before=$(systemctl show -P MainPID $unit)
          ada "yandro servers reload $server -q; yandro servers restart $server -q"
          [ "$(systemctl show -P MainPID $unit)" != "$before" ]
          # Bob is told the same, and changes nothing.
          says "su - bob -c 'yandro check https://saltmarsh.test/'" 'It answers.'
          says "su - bob -c 'yandro servers stop $server'" 'only root may stop'
          prints active "systemctl is-active $unit"
          echo 'tide high;' > /tmp/broken; cp /tmp/broken /etc/$unit/$([ $server = nginx ] && echo conf.d || echo conf-enabled)/zz.conf
          is_found configuration-broken
          systemctl stop $unit; is_found configuration-broken
          rm /etc/$unit/*/zz.conf; systemctl start $unit
          # A file that is included and isn't there.
          if [ $server = nginx ]; then
            echo 'include /etc/nginx/gone.conf;' > /etc/nginx/conf.d/zz.conf
          else
            echo 'Include /etc/apache2/gone.conf' > /etc/apache2/conf-enabled/zz.conf
          fi
          is_found configuration-broken
          says "su - ada -c 'yandro check'" gone.conf
          rm /etc/$unit/*/zz.conf
          ada "yandro unmap saltmarsh.test -q"
          systemctl stop $unit
        done"#;
    let Some(ran) = booted(script) else { return };
    ran.succeeds();
}

#[test]
fn the_sandbox_of_a_unit_is_told_before_and_after_and_opened_by_what_is_pasted() {
    let Some(ran) = booted(
        r#"
        project saltmarsh; project tide
        for server in apache nginx; do
          unit=$server; [ $server = nginx ] || unit=apache2
          ada "yandro map saltmarsh.test ./saltmarsh --server $server -q"
          for setting in ProtectHome=yes ProtectHome=tmpfs InaccessiblePaths=/home/ada/saltmarsh TemporaryFileSystem=/home ReadOnlyPaths=/var; do
            echo "$unit $setting"
            mkdir -p /etc/systemd/system/$unit.service.d
            printf "[Service]\n$setting\n" > /etc/systemd/system/$unit.service.d/a.conf
            systemctl daemon-reload; systemctl restart $unit 2>/dev/null || true
            is_found sandboxed
            case $setting in
              ReadOnly*|Inaccessible*) ;;
              *) before=$(cat /etc/hosts)
                 says "su - ada -c 'yandro map tide.test ./tide --server $server'" "the sandbox of $unit.service has $setting; nothing was changed"
                 [ "$(cat /etc/hosts)" = "$before" ] ;;
            esac
            pasted
            rm /etc/systemd/system/$unit.service.d/*; systemctl daemon-reload; systemctl restart $unit
          done
          ada 'mkdir -p /tmp/pier; echo pier > /tmp/pier/index.html'
          printf "[Service]\nPrivateTmp=yes\n" > /etc/systemd/system/$unit.service.d/a.conf
          systemctl daemon-reload; systemctl restart $unit
          says "su - ada -c 'yandro map pier.test /tmp/pier --server $server'" 'has PrivateTmp=yes; nothing was changed'
          fix=$(ada "yandro map pier.test /tmp/pier --server $server" 2>&1 | sed -n 's/^fix: //p' | head -1)
          ada "$fix"; ada "yandro map pier.test /tmp/pier --server $server -q"
          is_well
          ada 'yandro unmap pier.test saltmarsh.test -q'; systemctl stop $unit
        done"#,
    ) else {
        return;
    };
    ran.succeeds();
}

#[test]
fn timers_the_cache_of_names_and_php_are_those_of_systemd() {
    let script = r#"
        project saltmarsh
        # The resolver has learned that there is no such name.
        getent ahosts saltmarsh.test && exit 1
        ada "yandro map saltmarsh.test ./saltmarsh --server nginx -q"
        [ "$(getent ahosts saltmarsh.test | head -1 | cut -d' ' -f1)" = ::1 ]
        ada 'sudo yandro cert renew --install-timer'
        [ -n "$(systemctl list-timers --all | grep yandro-renew-1000.timer)" ]
        systemctl start yandro-renew-1000.service
        [ "$(systemctl show -P Result yandro-renew-1000.service)" = success ]
        # Another user's timer is their own; and root runs no program that somebody else can change.
        sudo -i yandro cert renew --install-timer
        ada 'cp /usr/local/bin/yandro .'
        says "su - ada -c 'sudo ./yandro cert renew --install-timer'" 'which others than root can change'
        ada 'sudo yandro cert renew --remove-timer'
        [ "$(systemctl list-timers --all | grep -o 'yandro-renew[-0-9]*.timer')" = yandro-renew-0.timer ]
        sudo -i yandro cert renew --remove-timer
        [ -z "$(systemctl list-timers --all | grep yandro-renew || true)" ]
        ada 'rm saltmarsh/index.html; echo "<?php echo 1;" > saltmarsh/index.php; yandro map saltmarsh.test --php -q'
        systemctl stop 'php*-fpm.service'; is_found php-down; pasted
        rm /run/php/php*-fpm.sock; is_found php-down; pasted
        sed -i 's/^listen.\(owner\|group\) = .*/listen.\1 = root/' /etc/php/*/fpm/pool.d/www.conf
        systemctl restart 'php*-fpm.service'; is_found php-forbidden; pasted
        [ "$(pgrep -cf 'php-fpm: master')" = 1 ]"#;
    let Some(ran) = booted(script) else { return };
    ran.succeeds();
}

#[test]
fn the_built_in_server_is_a_service_that_comes_back() {
    let script = r#"
        project saltmarsh; project tide
        ada 'yandro map saltmarsh.test ./saltmarsh --server built-in -q'
        says "su - ada -c 'yandro serve --install'" 'it runs as you: sudo /usr/local/bin/yandro serve --install'
        pasted() { ada "$(ada 'yandro serve --install' 2>&1 | sed -n 's/^fix: .*it runs as you: //p')"; }
        pasted | grep -q 'runs from now on'
        is_well
        # It has none of root's rights; killed, it comes back; new sites are taken up.
        server() { pgrep -u ada -f 'yandro serve$'; }
        first=$(server); [ -n "$first" ]; [ -z "$(pgrep -u root -f 'yandro serve$' || true)" ]
        kill -9 $first
        is_well
        [ "$(server)" != "$first" ]
        ada 'yandro map tide.test ./tide --server built-in -q'
        is_well
        ada 'yandro check https://tide.test/' | grep -q 'It answers.'
        # Bob's own ports, and his own systemd: it can't be Ada's.
        mkdir -p /run/user/1001 /etc/systemd/system/user@.service.d
        chown bob: /run/user/1001
        printf '[Service]\nPAMName=\nEnvironment=XDG_RUNTIME_DIR=/run/user/%%i\n' > /etc/systemd/system/user@.service.d/a.conf
        systemctl daemon-reload; systemctl start user@1001
        bob 'mkdir -p .config/yandro; printf "[built-in]\nhttp-port = 8080\nhttps-port = 8443\n" > .config/yandro/settings.toml'
        bob 'yandro serve --install' | grep -q 'runs from now on'
        [ "$(bob 'curl -so /dev/null -w "%{http_code}" http://127.0.0.1:8080/')" = 404 ]
        says "su - bob -c 'sudo -n yandro serve --remove'" password
        bob 'yandro undo -q'
        prints '' "ss -Hltn 'sport = :8080'"
        # What root installed for Ada, only root removes; uninstall says that it is there.
        says "su - ada -c 'yandro serve --remove'" 'root installed one for you'
        left=$(ada 'yandro uninstall --yes' | sed -n 's/.*which root installed; remove it: //p')
        ada "$left" | grep -q 'has stopped'
        prints '' "ss -Hltn 'sport = :443'"
        [ -z "$(find /etc/systemd /home -name 'yandro-serve*')" ]"#;
    let Some(ran) = booted(script) else { return };
    ran.succeeds();
}

#[test]
fn names_below_a_site_are_resolved_by_systemds_own_resolver() {
    let script = r#"
        project saltmarsh; project tide
        # With a network, as it asks no server without one.
        ip link add quay0 type veth peer name quay1
        ip link set quay0 up; ip link set quay1 up; ip address add 192.0.2.7/24 dev quay0
        ada 'yandro map saltmarsh.test ./saltmarsh --server nginx --tenants -q'
        is_well
        says 'getent ahosts any.saltmarsh.test' '127.0.0.1 '
        says 'resolvectl query any.saltmarsh.test' '127.0.0.1'
        # Another server of a connection's is asked for all other names.
        cat > /tmp/dns.pl <<'END'
use IO::Socket::INET;
my $s = IO::Socket::INET->new(LocalAddr => '192.0.2.7', LocalPort => 5300, Proto => 'udp') or die $!;
while (my $from = $s->recv(my $d, 4096)) {
    my $i = 12; $i += ord(substr $d, $i, 1) + 1 while ord(substr $d, $i, 1);
    my $is_a = unpack('n', substr $d, $i + 1, 2) == 1;
    my $r = substr($d, 0, 2) . "\x81\x80\0\1" . ($is_a ? "\0\1" : "\0\0") . "\0\0\0\0" . substr($d, 12, $i - 7);
    $r .= "\xc0\x0c\0\1\0\1\0\0\0\1\0\4" . pack('C4', 198, 51, 100, 9) if $is_a;
    $s->send($r, 0, $from);
}
END
        perl /tmp/dns.pl & dns=$!
        prints 192.0.2.7:5300 "ss -Hlun 'sport = :5300' | tr -s ' ' | cut -d' ' -f4"
        resolvectl dns quay0 192.0.2.7:5300
        for i in $(seq 10); do says "getent ahosts n$i.harbour.example" 198.51.100.9; done
        for i in $(seq 10); do says "getent ahosts n$i.saltmarsh.test" '127.0.0.1 '; done
        # Named for all connections, it may be asked for tenants, too: that is told.
        printf '[Resolve]\nDNS=192.0.2.7:5300\n' > /etc/systemd/resolved.conf.d/aa.conf
        systemctl restart systemd-resolved
        is_found tenants-unresolved
        says "su - ada -c 'yandro check'" '/etc/systemd/resolved.conf.d/aa.conf:2: that line names servers for all names'
        rm /etc/systemd/resolved.conf.d/aa.conf; systemctl restart systemd-resolved
        is_well
        kill $dns
        ip link set quay0 down
        is_found tenants-unresolved
        says "su - ada -c 'yandro check'" 'no network is up'
        ip link set quay0 up; is_well
        # As a service of the system it comes back; without tenants it waits.
        ada 'sudo yandro serve --names --install' | grep -q 'runs from now on'
        is_well
        responder() { pgrep -u ada -f 'yandro serve --names$'; }
        first=$(responder); kill -9 $first; is_well; [ "$(responder)" != "$first" ]
        ada 'yandro map saltmarsh.test --tenants=off -q'
        prints '' 'find /etc/systemd/resolved.conf.d 2>/dev/null'
        sleep 1; [ -n "$(responder)" ]
        ada 'yandro map tide.test ./tide --server nginx --tenants -q'; is_well
        systemctl stop yandro-names-1000; is_found responder-down
        says "su - ada -c 'yandro settle'" 'sudo systemctl start yandro-names-1000'
        systemctl start yandro-names-1000; is_well
        left=$(ada 'yandro uninstall --yes' | sed -n 's/.*which root installed; remove it: //p')
        ada "$left" | grep -q 'has stopped'
        [ -z "$(find /etc/systemd /home -name 'yandro-*')" ]"#;
    let Some(ran) = booted(script) else { return };
    ran.succeeds();
}
