<?php
// A small stand-in that behaves like the content system where it matters for a move: it reads the same config class,
// refuses wrong credentials, forces its stored address where one is stored, and prints what its rows hold.
error_reporting(E_ALL);
mysqli_report(MYSQLI_REPORT_OFF);
require __DIR__ . '/configuration.php';
$c = new JConfig();

function fail($status, $text) { http_response_code($status); echo $text, "\n"; exit; }

if (is_dir(__DIR__ . '/installation')) { fail(503, 'Installer found'); }
$parts = explode(':', $c->host, 2);
$port = isset($parts[1]) && ctype_digit($parts[1]) ? (int) $parts[1] : 3306;
$socket = isset($parts[1]) && !ctype_digit($parts[1]) ? $parts[1] : null;
$db = @new mysqli($parts[0], $c->user, $c->password, $c->db, $port, $socket);
if ($db->connect_errno) { fail(500, 'Database Error: Unable to connect to the database'); }
$db->set_charset('utf8mb4');

$request = (empty($_SERVER['HTTPS']) ? 'http://' : 'https://') . $_SERVER['HTTP_HOST'];
if ($c->live_site !== '' && strpos($c->live_site . '/', $request . '/') !== 0) {
    header('Location: ' . $c->live_site, true, 301);
    exit;
}
$p = $c->dbprefix;
function rows($db, $sql) {
    $r = $db->query($sql);
    if (!$r) { fail(500, 'Query failed: ' . $db->error); }
    return $r->fetch_all(MYSQLI_ASSOC);
}

echo "<html><head><title>", htmlspecialchars($c->sitename), "</title></head><body>\n";
foreach (rows($db, "SELECT * FROM {$p}menu ORDER BY id") as $m) {
    echo '<a class="menu" href="', htmlspecialchars($m['link']), '">', htmlspecialchars($m['title']), "</a>\n";
}
foreach (rows($db, "SELECT * FROM {$p}content ORDER BY id") as $a) {
    echo '<h2>', htmlspecialchars($a['title']), "</h2>\n", $a['introtext'], $a['fulltext'], "\n";
    $images = json_decode($a['images'], true);
    if (is_array($images)) { foreach ($images as $k => $v) { echo "image $k: $v\n"; } }
}
foreach (rows($db, "SELECT object FROM {$p}finder_links ORDER BY link_id") as $f) {
    $o = @unserialize($f['object']);
    echo 'index entry: ', $o === false ? 'BROKEN' : print_r($o, true), "\n";
}
foreach (array('log_path', 'tmp_path') as $k) {
    echo "$k: ", is_dir($c->$k) && is_writable($c->$k) ? 'writable' : 'MISSING', "\n";
}
echo 'sessions: ', rows($db, "SELECT COUNT(*) n FROM {$p}session")[0]['n'], "\n</body></html>\n";
