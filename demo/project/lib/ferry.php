<?php
// What both sites of Saltmarsh Ferry share. Every address and password comes from the stack's environment.
declare(strict_types=1);

/** Runs a statement and returns its rows, on MariaDB or SQLite. */
function rows(string $sql, array $values = []): array
{
    static $query = null;
    if ($query === null) {
        $query = getenv('DB_CONNECTION') === 'sqlite' ? sqlite() : mariadb();
    }
    return $query($sql, $values);
}

function mariadb(): callable
{
    mysqli_report(MYSQLI_REPORT_ERROR | MYSQLI_REPORT_STRICT);
    $db = new mysqli(getenv('DB_HOST'), getenv('DB_USERNAME'), getenv('DB_PASSWORD'), getenv('DB_DATABASE'), (int) getenv('DB_PORT'));
    return function (string $sql, array $values) use ($db): array {
        $statement = $db->prepare($sql);
        $statement->execute($values);
        $result = $statement->get_result();
        return $result ? $result->fetch_all(MYSQLI_ASSOC) : [];
    };
}

function sqlite(): callable
{
    $db = new SQLite3(getenv('DB_DATABASE'));
    $db->enableExceptions(true);
    $db->busyTimeout(3000);
    return function (string $sql, array $values) use ($db): array {
        $statement = $db->prepare($sql);
        foreach ($values as $i => $value) {
            $statement->bindValue($i + 1, $value);
        }
        $result = $statement->execute();
        $out = [];
        while ($result->numColumns() > 0 && ($row = $result->fetchArray(SQLITE3_ASSOC))) {
            $out[] = $row;
        }
        return $out;
    };
}

/** The cache, which counts the free seats of each sailing for today, and holds the queue of mails. */
function seats(): Redis
{
    static $redis = null;
    if ($redis === null) {
        $redis = new Redis();
        $redis->connect(getenv('REDIS_HOST'), (int) getenv('REDIS_PORT'), 3);
        $redis->auth(getenv('REDIS_PASSWORD'));
    }
    return $redis;
}

function seatKey(array $sailing): string
{
    return 'seats:' . date('Y-m-d') . ':' . $sailing['id'];
}

function freeSeats(array $sailing): int
{
    seats()->set(seatKey($sailing), (string) $sailing['seats'], ['nx', 'ex' => 172800]);
    return (int) seats()->get(seatKey($sailing));
}

function sailings(): array
{
    return rows('SELECT s.id, s.leaves, s.origin, s.arrives, s.minutes, b.name AS boat, b.seats FROM sailings s JOIN boats b ON b.id = s.boat ORDER BY s.leaves');
}

function text(mixed $value): string
{
    return htmlspecialchars((string) $value, ENT_QUOTES | ENT_SUBSTITUTE, 'UTF-8');
}

/** Leaves a mail in the queue, from which the worker sends it. */
function confirm(string $to, string $subject, string $body): void
{
    seats()->lPush('mails', json_encode([$to, $subject, $body], JSON_THROW_ON_ERROR));
}

/** Sends a mail through PHP's own mail(), which the stack hands to its mail catcher. */
function send(string $to, string $subject, string $body): bool
{
    $headers = ['From' => 'Saltmarsh Ferry <office@saltmarsh-ferry.example>', 'Content-Type' => 'text/plain; charset=utf-8'];
    return mail($to, $subject, str_replace("\n", "\r\n", $body), $headers);
}

/** The site with the style sheet links to it, the other carries it. */
function style(): string
{
    return is_file($_SERVER['DOCUMENT_ROOT'] . '/style.css') ? '<link rel="stylesheet" href="/style.css">' : '<style>' . file_get_contents(__DIR__ . '/../public/style.css') . '</style>';
}

function page(string $title, string $body): void
{
    header('Content-Type: text/html; charset=utf-8');
    echo '<!doctype html><html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1">',
        '<title>', text($title), ' · Saltmarsh Ferry</title>', style(), '</head><body>',
        '<header><a href="/">Saltmarsh Ferry</a><span>', text($title), '</span></header><main>', $body, '</main>',
        '<footer>Served by PHP ', PHP_VERSION, ' from ', text(getenv('DB_CONNECTION') === 'sqlite' ? 'SQLite' : 'MariaDB'), '. Everything here is made up.</footer></body></html>';
}
