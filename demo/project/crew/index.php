<?php
require __DIR__ . '/../lib/ferry.php';

$body = '<h1>Bookings</h1><table><tr><th>code</th><th>sailing</th><th>boat</th><th>name</th><th>mail</th><th>made</th><th class="n">seats</th></tr>';
$all = rows('SELECT k.code, s.leaves, s.origin, s.arrives, b.name AS boat, k.name, k.email, k.seats, k.made FROM bookings k JOIN sailings s ON s.id = k.sailing JOIN boats b ON b.id = s.boat ORDER BY k.made DESC');
foreach ($all as $k) {
    $body .= '<tr><td>' . text($k['code']) . '</td><td>' . text("{$k['leaves']} {$k['origin']} to {$k['arrives']}") . '</td><td>' . text($k['boat']) . '</td><td>' . text($k['name']) . '</td><td>' . text($k['email']) . '</td><td>' . text($k['made']) . '</td><td class="n">' . text($k['seats']) . '</td></tr>';
}
$body .= '</table>' . ($all ? '' : '<p>Nobody has booked yet.</p>') . '<h2>Boats</h2><table>';
foreach (rows('SELECT name, seats FROM boats ORDER BY name') as $b) {
    $body .= '<tr><td>' . text($b['name']) . '</td><td class="n">' . text($b['seats']) . ' seats</td></tr>';
}
page('Crew', $body . '</table>');
