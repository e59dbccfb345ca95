<?php
require __DIR__ . '/../lib/ferry.php';

if ($_SERVER['REQUEST_METHOD'] === 'POST') {
    $sailing = array_values(array_filter(sailings(), fn ($s) => (int) $s['id'] === (int) ($_POST['sailing'] ?? 0)))[0] ?? null;
    $name = trim((string) ($_POST['name'] ?? ''));
    $email = filter_var($_POST['email'] ?? '', FILTER_VALIDATE_EMAIL);
    $wanted = max(1, min(9, (int) ($_POST['seats'] ?? 1)));
    $fault = match (true) {
        $sailing === null => 'Pick a sailing.',
        $name === '' || strlen($name) > 80 => 'Tell us your name.',
        $email === false => 'That is no mail address.',
        freeSeats($sailing) < $wanted => 'Not enough free seats on that boat.',
        default => '',
    };
    if ($fault === '') {
        seats()->decrBy(seatKey($sailing), $wanted);
        $code = strtoupper(substr(bin2hex(random_bytes(3)), 0, 6));
        rows('INSERT INTO bookings (code, sailing, name, email, seats, made) VALUES (?, ?, ?, ?, ?, ?)', [$code, $sailing['id'], $name, $email, $wanted, date('Y-m-d H:i:s')]);
        confirm($email, "Your crossing at {$sailing['leaves']} ($code)",
            "Dear $name,\n\n$wanted seat(s) on the {$sailing['boat']}, {$sailing['leaves']} from {$sailing['origin']} to {$sailing['arrives']}.\nYour code is $code. Be at the quay ten minutes before.\n\nSaltmarsh Ferry\n");
        page('Booked', '<section class="next"><h1>Booked: ' . text($code) . '</h1><p>' . text("$wanted seat(s), {$sailing['leaves']} {$sailing['origin']} to {$sailing['arrives']}.") . ' A mail is on its way to ' . text($email) . '.</p><p><a href="/">Back to the timetable</a></p></section>');
        exit;
    }
    http_response_code(422);
}

$all = sailings();
$now = date('H:i');
$next = array_values(array_filter($all, fn ($s) => $s['leaves'] > $now))[0] ?? $all[0];
$body = isset($fault) ? '<p class="fault">' . text($fault) . '</p>' : '';
$body .= '<section class="next"><p>Next sailing</p><h1>' . text($next['leaves']) . ' <small>' . text($next['origin']) . ' to ' . text($next['arrives']) . '</small></h1><p>'
    . text($next['boat']) . ', ' . text($next['minutes']) . ' minutes, ' . freeSeats($next) . ' seats free</p></section><div class="halves"><section><h2>Today</h2><table><tr><th>leaves</th><th>from</th><th>to</th><th>boat</th><th class="n">free</th></tr>';
foreach ($all as $s) {
    $body .= '<tr' . ($s['leaves'] <= $now ? ' class="gone"' : '') . '><td>' . text($s['leaves']) . '</td><td>' . text($s['origin']) . '</td><td>' . text($s['arrives']) . '</td><td>' . text($s['boat']) . '</td><td class="n">' . freeSeats($s) . '</td></tr>';
}
$body .= '</table></section><section><h2>Book</h2><form method="post"><label>Sailing<select name="sailing">';
foreach ($all as $s) {
    $body .= '<option value="' . text($s['id']) . '"' . ($s['id'] == $next['id'] ? ' selected' : '') . '>' . text("{$s['leaves']} {$s['origin']} to {$s['arrives']}") . '</option>';
}
$body .= '</select></label><label>Name<input name="name" required maxlength="80"></label><label>Mail<input name="email" type="email" required></label><label>Seats<input name="seats" type="number" min="1" max="9" value="1"></label><button>Book</button></form><h2>Tides</h2><table>';
foreach (rows('SELECT at, state, metres FROM tides ORDER BY at') as $t) {
    $body .= '<tr><td>' . text($t['at']) . '</td><td>' . text($t['state']) . ' water</td><td class="n">' . text($t['metres']) . ' m</td></tr>';
}
page('Timetable', $body . '</table></section></div>');
