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
