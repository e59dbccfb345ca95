<?php
// The task "bookings": the table of bookings, with those that were made by telephone. All made up.
require __DIR__ . '/../lib/ferry.php';

rows('CREATE TABLE bookings (code CHAR(6) PRIMARY KEY, sailing INTEGER NOT NULL, name VARCHAR(80) NOT NULL, email VARCHAR(120) NOT NULL, seats INTEGER NOT NULL, made VARCHAR(19) NOT NULL)');
foreach (file(__DIR__ . '/../data/bookings.csv', FILE_IGNORE_NEW_LINES) as $line) {
    [$code, $sailing, $name, $email, $seats] = explode(',', $line);
    rows('INSERT INTO bookings (code, sailing, name, email, seats, made) VALUES (?, ?, ?, ?, ?, ?)', [$code, $sailing, $name, $email, $seats, date('Y-m-d 08:00:00', time() - 86400)]);
    echo "$code for $name\n";
}
