<?php
require __DIR__ . '/../config/constants.php';
$env = parse_ini_file(__DIR__ . '/../.env', false, INI_SCANNER_RAW);
$base = new PDO(
    "mysql:host={$env['DB_HOST']};port={$env['DB_PORT']};dbname={$env['DB_DATABASE']};charset=utf8mb4",
    $env['DB_USERNAME'],
    $env['DB_PASSWORD'],
);
$settings = $base->query('SELECT name, value FROM settings')->fetchAll(PDO::FETCH_KEY_PAIR);
$menu = unserialize($settings['menu']);
echo "<h1>Saltmarsh Ferries: booking</h1>\n<p>{$env['APP_URL']}</p>\n<ul>\n";
foreach ($menu as $title => $link) {
    echo "<li><a href=\"$link\">" . htmlspecialchars($title) . "</a></li>\n";
}
echo '</ul><a href="' . TICKET_DESK . "\">The ticket desk</a>\n";
