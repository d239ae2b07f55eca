# Functions for scripts, in addition to the machine's own programs. Each fault is made by a few of these.

yandro() { "$YANDRO" "$@"; }

certificates=$HOME/.local/share/yandro/certificates/saltmarsh.test
authority=$HOME/.local/share/yandro/authority

# Waits until nothing listens on a port: closed PORT
closed() {
  for _ in $(seq 400); do
    curl --silent --output /dev/null "http://127.0.0.1:$1/" || [ $? != 7 ] || return 0
    sleep 0.05
  done
  return 1
}

# Waits until the site's virtual host is gone.
left() {
  for _ in $(seq 400); do
    [ -n "$(curl --silent --output /dev/null --write-out '%{redirect_url}' http://saltmarsh.test/)" ] || return 0
    sleep 0.05
  done
  return 1
}

# Waits until no server is there any more.
gone() {
  for _ in $(seq 400); do
    [ -e /run/apache2/apache2.pid ] || [ -e /run/nginx.pid ] || break
    sleep 0.05
  done
  closed 80 && closed 443
}

server() { if ls /etc/nginx/sites-enabled/*yandro-* >/dev/null 2>&1; then echo nginx; else echo apache; fi; }
reload() { yandro servers reload "$(server)" -q; }

# Gives a site another name in every file: rename OLD NEW
rename() {
  case $(server) in nginx) at=/etc/nginx ;; *) at=/etc/apache2 ;; esac
  sed "s/$1/$2/g" /etc/hosts > "$HOME/.hosts"; cat "$HOME/.hosts" > /etc/hosts; rm "$HOME/.hosts"
  sed -i "s/$1/$2/g" "$HOME/.config/yandro/sites.toml"
  sed "s#$1#$2#g" "$at/sites-available/yandro-$1.conf" > "$at/sites-available/yandro-$2.conf"
  for link in "$at"/sites-enabled/*"$1".conf; do
    ln -s "../sites-available/yandro-$2.conf" "${link%"$1".conf}$2.conf"; rm "$link"
  done
  rm "$at/sites-available/yandro-$1.conf"
}

# A self-signed certificate for the site: self_signed KEY CHAIN
self_signed() {
  openssl req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout "$1" -out "$2" -days 90 -subj /O=x \
    -addext subjectAltName=DNS:saltmarsh.test 2>/dev/null
}

# A certificate for the site by its own authority, from one day to another, counted from today: of_time FROM TO
of_time() {
  mkdir "$HOME/.ca"
  : > "$HOME/.ca/index"
  echo 4C0FFEE5 > "$HOME/.ca/serial"
  cat > "$HOME/.ca/conf" <<CONF
[ca]
default_ca = x
[x]
serial = $HOME/.ca/serial
database = $HOME/.ca/index
policy = p
[p]
organizationName = optional
[leaf]
subjectAltName = DNS:saltmarsh.test
basicConstraints = critical,CA:FALSE
keyUsage = critical,digitalSignature
extendedKeyUsage = serverAuth
subjectKeyIdentifier = hash
authorityKeyIdentifier = keyid
CONF
  openssl req -new -key "$certificates/key.pem" -subj /O=x -out "$HOME/.ca/request"
  openssl ca -batch -notext -config "$HOME/.ca/conf" -extensions leaf -md sha256 -in "$HOME/.ca/request" \
    -cert "$authority/issuing.pem" -keyfile "$authority/issuing.key" -out "$HOME/.ca/leaf" -outdir "$HOME/.ca" \
    -startdate "$(date -u -d "$1 days" +%y%m%d%H%M%SZ)" -enddate "$(date -u -d "$2 days" +%y%m%d%H%M%SZ)" 2>/dev/null
  cat "$HOME/.ca/leaf" "$authority/issuing.pem" > "$certificates/fullchain.pem"
  rm -r "$HOME/.ca"
}

# A virtual host of Apache httpd's over TLS, with the site's certificate, that comes before the site's: httpd_host LINES
httpd_host() {
  mkdir -p /var/www/html
  cat > /etc/apache2/sites-enabled/000-aa.conf <<CONF
<VirtualHost *:443>
$1
SSLEngine on
SSLCertificateFile $certificates/fullchain.pem
SSLCertificateKeyFile $certificates/key.pem
DocumentRoot /var/www/html
</VirtualHost>
CONF
}

# A virtual host of Apache httpd's at one address: httpd_host_at ADDRESS LINES
httpd_host_at() {
  httpd_host "$2"
  sed -i "s/<VirtualHost .*>/<VirtualHost $1>/" /etc/apache2/sites-enabled/000-aa.conf
  case $1 in *:443) ;; *) sed -i '/^SSL/d' /etc/apache2/sites-enabled/000-aa.conf ;; esac
}

# The same as a server block of nginx's, on both ports.
nginx_host() {
  mkdir -p /var/www/html
  cat > /etc/nginx/sites-enabled/000-aa.conf <<CONF
server {
listen 80; listen 443 ssl;
$1
ssl_certificate $certificates/fullchain.pem;
ssl_certificate_key $certificates/key.pem;
root /var/www/html;
}
CONF
}

# A profile of Firefox's with these lines of preferences: firefox_profile LINES
firefox_profile() {
  mkdir -p "$HOME/.mozilla/firefox/tide"
  certutil -N -d "sql:$HOME/.mozilla/firefox/tide" --empty-password
  printf '%s\n' "$1" > "$HOME/.mozilla/firefox/tide/prefs.js"
}

# Waits until a command succeeds: eventually COMMAND
eventually() {
  for _ in $(seq 400); do
    if sh -c "$1" >/dev/null 2>&1; then return 0; fi
    sleep 0.05
  done
  return 1
}

# Waits until something listens on a port.
opened() { eventually "curl --silent --output /dev/null http://127.0.0.1:$1/ || [ \$? != 7 ]"; }

# The site's virtual host file.
site() { echo /etc/*/sites-available/yandro-saltmarsh.test.conf; }

# The usual pool of php-fpm, and the program.
pool() { echo /etc/php/*/fpm/pool.d/www.conf; }
php_start() {
  mkdir -p /run/php
  "$(ls /usr/sbin/php-fpm* | tail -1)" --daemonize 2>/dev/null
  eventually 'ls /run/php/*.pid'
}
php_end() { pkill -QUIT php-fpm; eventually '! pgrep php-fpm'; rm -f /run/php/*; }

# A site of PHP, well.
php_site() {
  php_start
  rm saltmarsh/index.html
  echo '<?php echo 1;' > saltmarsh/index.php
  yandro map saltmarsh.test --php -q
}

# Further lines of the user's for the site's server block: set_extra LINES
set_extra() { echo "$1" > more.conf; yandro map saltmarsh.test --extra ./more.conf -q || true; }

# Lines beyond all virtual hosts of Apache httpd: httpd_lines LINE...
httpd_lines() { printf '%s\n' "$@" > /etc/apache2/conf-enabled/zz.conf; reload; }

# Lines in the site's own virtual hosts, in both or in the one for HTTPS.
in_host() {
  lines=$(printf '\\n\\t%s' "$@")
  case $1 in SSL*|Directory*) at=SSLEngine ;; *) at=ServerName ;; esac
  sed -i "s#^\(\s*\)$at .*#&$lines#" "$(site)"
  reload
}
in_block() { sed -i "s#^\(\s*\)root .*#&\n$1#" "$(site)"; reload; }
