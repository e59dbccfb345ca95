<?php
// Dravit's probe: reaches every store with the stack's own credentials and returns verdicts, no secrets.
ini_set('display_errors', '0');
$token = trim((string) @file_get_contents(__DIR__ . '/token'));
if ($token === '' || !hash_equals($token, (string) ($_SERVER['HTTP_DRAVIT_PROBE'] ?? ''))) {
    http_response_code(404);
    exit;
}
$reach = [
    'mariadb' => function (callable $env): string {
        [$host, $port, $user, $password, $database] = [$env('HOST'), (int) $env('PORT'), $env('USER'), $env('PASSWORD'), $env('DATABASE')];
        if (extension_loaded('mysqli')) {
            mysqli_report(MYSQLI_REPORT_ERROR | MYSQLI_REPORT_STRICT);
            $db = mysqli_init();
            $db->options(MYSQLI_OPT_CONNECT_TIMEOUT, 3);
            $db->real_connect($host, $user, $password, $database, $port);
            answered($db->server_info);
            variables(fn (string $name) => $db->query("SHOW VARIABLES LIKE '" . addcslashes($name, '_%') . "'")->fetch_row()[1] ?? null);
            return (int) $db->query('SELECT 40 + 2')->fetch_row()[0] === 42 ? 'ok' : 'a wrong sum';
        }
        if (extension_loaded('pdo_mysql')) {
            $db = new PDO("mysql:host=$host;port=$port;dbname=$database", $user, $password, [PDO::ATTR_ERRMODE => PDO::ERRMODE_EXCEPTION, PDO::ATTR_TIMEOUT => 3]);
            answered((string) $db->getAttribute(PDO::ATTR_SERVER_VERSION));
            variables(fn (string $name) => $db->query("SHOW VARIABLES LIKE '" . addcslashes($name, '_%') . "'")->fetch(PDO::FETCH_NUM)[1] ?? null);
            return (int) $db->query('SELECT 40 + 2')->fetchColumn() === 42 ? 'ok' : 'a wrong sum';
        }
        return 'neither mysqli nor pdo_mysql is loaded';
    },
    'sqlite' => function (callable $env): string {
        if (extension_loaded('sqlite3')) {
            $db = new SQLite3($env('DATABASE'), SQLITE3_OPEN_READWRITE);
            $db->enableExceptions(true);
            $db->busyTimeout(3000);
            answered(SQLite3::version()['versionString']);
            return (int) $db->querySingle('SELECT 40 + 2') === 42 ? 'ok' : 'a wrong sum';
        }
        if (extension_loaded('pdo_sqlite')) {
            $db = new PDO('sqlite:' . $env('DATABASE'), null, null, [PDO::ATTR_ERRMODE => PDO::ERRMODE_EXCEPTION]);
            answered((string) $db->getAttribute(PDO::ATTR_SERVER_VERSION));
            return (int) $db->query('SELECT 40 + 2')->fetchColumn() === 42 ? 'ok' : 'a wrong sum';
        }
        return 'neither sqlite3 nor pdo_sqlite is loaded';
    },
    'postgres' => function (callable $env): string {
        [$host, $port, $user, $password, $database] = [$env('HOST'), (int) $env('PORT'), $env('USER'), $env('PASSWORD'), $env('DATABASE')];
        if (extension_loaded('pgsql')) {
            $word = fn (string $text): string => "'" . addcslashes($text, "'\\\\") . "'";
            $db = @pg_connect("host=$host port=$port dbname={$word($database)} user={$word($user)} password={$word($password)} connect_timeout=3");
            if ($db === false) {
                return (string) (error_get_last()['message'] ?? 'no connection');
            }
            answered((string) (pg_version($db)['server'] ?? ''));
            variables(fn (string $name) => pg_fetch_result(pg_query($db, "SELECT current_setting('$name', true)"), 0, 0));
            return (int) pg_fetch_result(pg_query($db, 'SELECT 40 + 2'), 0, 0) === 42 ? 'ok' : 'a wrong sum';
        }
        if (extension_loaded('pdo_pgsql')) {
            $db = new PDO("pgsql:host=$host;port=$port;dbname=$database", $user, $password, [PDO::ATTR_ERRMODE => PDO::ERRMODE_EXCEPTION, PDO::ATTR_TIMEOUT => 3]);
            answered((string) $db->getAttribute(PDO::ATTR_SERVER_VERSION));
            variables(fn (string $name) => $db->query("SELECT current_setting('$name', true)")->fetchColumn());
            return (int) $db->query('SELECT 40 + 2')->fetchColumn() === 42 ? 'ok' : 'a wrong sum';
        }
        return 'neither pgsql nor pdo_pgsql is loaded';
    },
    'memcached' => function (callable $env): string {
        $got = dial($env)("version\r\n");
        answered(substr($got, 8));
        return strncmp($got, 'VERSION', 7) === 0 ? 'ok' : $got;
    },
    'redis' => function (callable $env): string {
        // In the protocol itself: a cache is reached by whatever client the application brings.
        $say = dial($env);
        $password = $env('PASSWORD');
        if ($password !== '' && ($got = $say(resp('AUTH', $password))) !== '+OK') {
            return $got;
        }
        $got = $say(resp('PING'));
        if ($got === '+PONG' && ($_SERVER['HTTP_DRAVIT_ASK'] ?? '') !== '' && ($say(resp('INFO', 'server'))[0] ?? '') === '$') {
            for ($n = 0; $n < 9; $n++) {
                if (strncmp($line = $say(''), 'redis_version:', 14) === 0) {
                    answered(substr($line, 14));
                    break;
                }
            }
        }
        return $got === '+PONG' ? 'ok' : $got;
    },
    'mail' => function (callable $env): string {
        $say = dial($env);
        $greeting = $say('');
        $say("QUIT\r\n");
        return strncmp($greeting, '220', 3) === 0 ? 'ok' : $greeting;
    },
];
$reach['dravit-cache'] = $reach['redis'];
$reach['dravit-mail'] = $reach['mail'];

function resp(string ...$words): string
{
    $out = '*' . count($words) . "\r\n";
    foreach ($words as $word) {
        $out .= '$' . strlen($word) . "\r\n$word\r\n";
    }
    return $out;
}

function dial(callable $env): callable
{
    $address = $env('PORT') !== '' ? 'tcp://' . $env('HOST') . ':' . $env('PORT') : 'unix://' . $env('SOCKET');
    $conn = @stream_socket_client($address, $code, $why, 3);
    if ($conn === false) {
        throw new RuntimeException($why);
    }
    stream_set_timeout($conn, 3);
    return function (string $text) use ($conn): string {
        if ($text !== '') {
            fwrite($conn, $text);
        }
        return rtrim((string) fgets($conn));
    };
}

// variables notes what a database's variables are that the application asks for, where it is asked.
function variables(callable $get): void
{
    global $need, $found;
    foreach ($need['database'] ?? [] as $name) {
        $found['database'][$name] ??= $get($name);
    }
}

// answered notes the version of the store that answers.
function answered(string $version): void
{
    $GLOBALS['version'] = $version;
}

$asked = ($_SERVER['HTTP_DRAVIT_ASK'] ?? '') !== '';
$need = $asked ? json_decode((string) file_get_contents(__DIR__ . '/requires.json'), true) ?? [] : [];
$found = [];
foreach ($need['settings'] ?? [] as $name) {
    $value = ini_get($name);
    $found['settings'][$name] = $value === false ? null : $value;
}
foreach ($need['functions'] ?? [] as $name) {
    $found['functions'][$name] = function_exists($name);
}
foreach ($need['writable'] ?? [] as $path) {
    $found['writable'][$path] = is_writable($path);
}
$verdicts = $versions = $ms = [];
$alone = ($_SERVER['HTTP_DRAVIT_ALONE'] ?? '') !== '';
$stores = $alone ? [] : json_decode((string) file_get_contents(__DIR__ . '/stores.json'), true) ?? [];
foreach ($stores as $store) {
    $began = microtime(true);
    $version = '';
    try {
        $env = fn (string $field): string => (string) getenv($store['prefix'] . '_' . $field);
        $verdicts[$store['name']] = isset($reach[$store['kind']]) ? $reach[$store['kind']]($env) : null; // null: not asked
    } catch (Throwable $e) {
        $verdicts[$store['name']] = $e->getMessage();
    }
    $versions[$store['name']] = $version;
    $ms[$store['name']] = round(1000 * (microtime(true) - $began), 3);
}
$upload = $_SERVER['REQUEST_METHOD'] === 'POST' ? hash('sha256', (string) file_get_contents('php://input')) : '';
header('Content-Type: application/json');
header('Cache-Control: no-store');
echo json_encode(['version' => PHP_VERSION, 'sapi' => PHP_SAPI, 'stores' => (object) $verdicts, 'versions' => (object) $versions, 'ms' => (object) $ms,
    'upload' => $upload, 'found' => (object) $found, 'took_ms' => round(1000 * (microtime(true) - $_SERVER['REQUEST_TIME_FLOAT']), 3), 'extensions' => get_loaded_extensions()]);
