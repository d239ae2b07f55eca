<?php
return [
    'database' => [
        'driver' => 'pgsql',
        'host' => 'localhost',
        'port' => 5432,
        'name' => 'timetable_of_somebody',
        'user' => 'somebody',
        'password' => '',
    ],
];
