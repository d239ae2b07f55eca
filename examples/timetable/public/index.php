<?php
$config = (require __DIR__ . '/../config/database.php')['database'];
$base = new PDO(
    "pgsql:host={$config['host']};port={$config['port']};dbname={$config['name']}",
    $config['user'],
    $config['password'],
);
echo "<h1>Saltmarsh Ferries: timetable</h1>\n<ul>\n";
foreach ($base->query('SELECT details FROM crossings ORDER BY id') as [$details]) {
    $crossing = json_decode($details, true);
    echo "<li><a href=\"{$crossing['page']}\">{$crossing['from']} to {$crossing['to']}</a></li>\n";
}
echo "</ul>\n";
