<?php
// What the stand-ins share: a connection as these programs make it, rows, and a check of what is kept serialized.
error_reporting(E_ALL);
mysqli_report(MYSQLI_REPORT_OFF);

function fail($status, $text) { http_response_code($status); echo $text, "\n"; exit; }

function connect($host, $user, $password, $name, $port = '', $socket = '') {
    global $db;
    $parts = explode(':', $host, 2);
    if (isset($parts[1])) { if (ctype_digit($parts[1])) { $port = $parts[1]; } else { $socket = $parts[1]; } }
    if ($port !== '' && !ctype_digit((string) $port)) { $socket = $port; $port = ''; }
    $db = @new mysqli($parts[0], $user, $password, $name, $port === '' ? 3306 : (int) $port, $socket === '' ? null : $socket);
    if ($db->connect_errno) { fail(500, 'No connection to the database: ' . $db->connect_error); }
    $db->set_charset('utf8mb4');
}

function rows($sql) {
    global $db;
    $r = $db->query($sql);
    if (!$r) { fail(500, 'Query failed: ' . $db->error); }
    return $r->fetch_all(MYSQLI_ASSOC);
}

function pairs($sql) {
    $out = array();
    foreach (rows($sql) as $r) { list($name, $value) = array_values($r); $out[$name] = $value; }
    return $out;
}

/** Prints what a serialized or JSON value holds, or that it is broken. */
function whole($text) {
    $value = $text !== '' && ($text[0] === '{' || $text[0] === '[') ? json_decode($text, true) : @unserialize($text);
    return $value === false && $text !== 'b:0;' || $value === null ? 'BROKEN' : print_r($value, true);
}

/** Says whether a cache was made for another folder or address than the site's own. */
function stale($text, $own) { return strpos($text, $own) === false; }

/** Sends a visitor of another host to the stored address. */
function insist($address) {
    $stored = parse_url($address);
    $host = $stored['host'] . (isset($stored['port']) ? ':' . $stored['port'] : '');
    if ($_SERVER['HTTP_HOST'] !== $host) { header('Location: ' . $address, true, 302); exit; }
}

/** Begins a page for people. */
function begin_page($title) {
    header('Content-Type: text/html; charset=utf-8');
    echo '<!doctype html><html><head><meta charset="utf-8"><title>', htmlspecialchars($title), "</title></head><body>\n";
}

/** Begins or ends what a page tells programs, and no reader sees. */
function facts($begin) { echo $begin ? '<script type="text/plain">' : "</script>\n"; }

/** The path of the site, below the host: where the file that was asked for lies, less the folders below the site. */
function base_path() {
    $below = substr(str_replace('\\', '/', realpath($_SERVER['SCRIPT_FILENAME'])), strlen(str_replace('\\', '/', realpath(__DIR__))));
    return substr($_SERVER['SCRIPT_NAME'], 0, -strlen($below)) . '/';
}

/** Says whether a password is the one of a hash, whichever of the old ways it was made in. */
function fits($hash, $password, $salt = '') {
    $is = function ($other) use ($hash) { return hash_equals($hash, $other); };
    if (strncmp($hash, '$2', 2) === 0) { return password_verify($password, $hash); }
    if (strncmp($hash, '$P$', 3) === 0 || strncmp($hash, '$H$', 3) === 0 || strncmp($hash, '$S$', 3) === 0) {
        $way = $hash[1] === 'S' ? 'sha512' : 'md5';
        $letters = './0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz';
        $made = hash($way, substr($hash, 4, 8) . $password, true);
        for ($i = 1 << strpos($letters, $hash[3]); $i > 0; $i--) { $made = hash($way, $made . $password, true); }
        $out = '';
        for ($i = 0; $i < strlen($made); $i += 3) {
            $v = ord($made[$i]) | (isset($made[$i + 1]) ? ord($made[$i + 1]) << 8 : 0) | (isset($made[$i + 2]) ? ord($made[$i + 2]) << 16 : 0);
            for ($n = 0; $n < min(4, (int) ceil((strlen($made) - $i) * 4 / 3)); $n++) { $out .= $letters[($v >> 6 * $n) & 63]; }
        }
        return $is(substr(substr($hash, 0, 12) . $out, 0, strlen($hash)));
    }
    if (strpos($hash, ':') !== false) { list($sum, $own) = explode(':', $hash, 2); return hash_equals($sum, md5($password . $own)); }
    return $is(md5($salt . $password)) || $is(md5($password)) || $is(sha1($salt . sha1($salt . sha1($password))));
}

/**
 * A form by which somebody logs in, and the page behind it. `find` gives hash and salt of a name, `to` is where one who is let in is sent,
 * `links` are shown behind.
 */
function door($d) {
    $d += array('hidden' => array(), 'cookie' => 'standin_in', 'to' => null, 'json' => false, 'failure' => '', 'action' => '');
    list($who, $proof) = array_pad(explode('|', isset($_COOKIE[$d['cookie']]) ? $_COOKIE[$d['cookie']] : '', 2), 2, '');
    $row = $who === '' ? null : call_user_func($d['find'], $who);
    $in = $row && $proof === sha1($row[0] . 'in');
    $wrong = false;
    if (isset($_POST[$d['user']])) {
        foreach ($d['hidden'] as $n => $v) { if (!isset($_POST[$n]) || $_POST[$n] !== $v) { fail(403, 'Invalid Token'); } }
        $row = call_user_func($d['find'], $_POST[$d['user']]);
        $in = $row && fits($row[0], $_POST[$d['password']], isset($row[1]) ? $row[1] : '');
        $wrong = !$in;
        if ($in) {
            setcookie($d['cookie'], $_POST[$d['user']] . '|' . sha1($row[0] . 'in'), 0, base_path());
            if ($d['json']) { header('Content-Type: application/json'); echo json_encode(array('redirect' => $d['to'])); exit; }
            if ($d['to'] !== null) { header('Location: ' . $d['to'], true, 302); exit; }
        }
    }
    if ($in) {
        begin_page('Behind the door');
        echo '<h1>Good evening</h1><p>You are logged in.</p>';
        foreach ($d['links'] as $link) { echo '<a href="', htmlspecialchars($link), '">', htmlspecialchars($link), "</a>\n"; }
        exit;
    }
    if ($wrong && $d['json']) { header('Content-Type: application/json'); echo json_encode(array('error' => 'No match')); exit; }
    begin_page('Log in');
    echo '<h1>Log in</h1>', $wrong ? $d['failure'] . '<p>Name or password is wrong.</p>' : '', '<form method="post" action="', htmlspecialchars($d['action']), '">';
    echo '<input name="', $d['user'], '"><input type="password" name="', $d['password'], '">';
    foreach ($d['hidden'] as $n => $v) { echo '<input type="hidden" name="', $n, '" value="', $v, '">'; }
    foreach (isset($d['button']) ? $d['button'] : array() as $n => $v) { echo '<input type="submit" name="', $n, '" value="', $v, '">'; }
    echo "<button>In</button></form></body></html>\n";
    exit;
}

/** Hash and salt of a name, from a table. */
function account($sql, $name) {
    global $db;
    $found = rows($sql . " = '" . $db->real_escape_string($name) . "'");
    return $found ? array_values($found[0]) : null;
}

/** The path that was asked for, below the site. */
function asked_path() { return (string) substr(urldecode(strtok($_SERVER['REQUEST_URI'], '?')), strlen(base_path())); }
function asked($name) { return isset($_GET[$name]) ? $_GET[$name] : ''; }
