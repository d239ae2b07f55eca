<?php
$env = parse_ini_file(__DIR__ . '/../.env', false, INI_SCANNER_RAW);
$file = $env['DB_DATABASE'];
$base = new PDO('sqlite:' . ($file[0] === '/' ? $file : __DIR__ . '/../' . $file));
echo "<h1>Saltmarsh Ferries: logbook</h1>\n<p>{$env['APP_URL']}</p>\n<ul>\n";
foreach ($base->query('SELECT day, note, photo FROM entries ORDER BY day') as [$day, $note, $photo]) {
    echo "<li>$day: <a href=\"$photo\">$note</a></li>\n";
}
echo "</ul>\n";
