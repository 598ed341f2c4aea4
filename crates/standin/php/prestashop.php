<?php
// A small stand-in that behaves like the shop where it matters for a move: defines in one file, the shop's address in rows,
// a redirect to the stored host, links with the stored base path.
error_reporting(E_ALL);
mysqli_report(MYSQLI_REPORT_OFF);
if (is_file(__DIR__ . '/app/config/parameters.php')) {
    // The newer lines keep their parameters in a returned array, and copies of them in caches.
    $parameters = require __DIR__ . '/app/config/parameters.php';
    $parameters = $parameters['parameters'];
    if (is_file(__DIR__ . '/var/cache/prod/appParameters.php')) { die('Reads the old database'); }
    $port = $parameters['database_port'] !== '' ? ':' . $parameters['database_port'] : '';
    define('_DB_SERVER_', $parameters['database_host'] . $port);
    define('_DB_NAME_', $parameters['database_name']);
    define('_DB_USER_', $parameters['database_user']);
    define('_DB_PASSWD_', $parameters['database_password']);
    define('_DB_PREFIX_', $parameters['database_prefix']);
} else {
    require __DIR__ . '/config/settings.inc.php';
}

function fail($status, $text) { http_response_code($status); echo $text, "\n"; exit; }

if (file_exists(__DIR__ . '/cache/class_index.php')) { fail(500, 'Fatal error: class not found (stale class index)'); }
$parts = explode(':', _DB_SERVER_, 2);
$port = isset($parts[1]) && ctype_digit($parts[1]) ? (int) $parts[1] : 3306;
$socket = isset($parts[1]) && !ctype_digit($parts[1]) ? $parts[1] : null;
$db = @new mysqli($parts[0], _DB_USER_, _DB_PASSWD_, _DB_NAME_, $port, $socket);
if ($db->connect_errno) { fail(500, 'Link to database cannot be established'); }
$db->set_charset('utf8mb4');
$p = _DB_PREFIX_;
function rows($db, $sql) {
    $r = $db->query($sql);
    if (!$r) { fail(500, 'Query failed: ' . $db->error); }
    return $r->fetch_all(MYSQLI_ASSOC);
}
$config = array();
foreach (rows($db, "SELECT * FROM {$p}configuration ORDER BY id_configuration") as $r) {
    // A row of another shop overrides the value for that shop alone.
    if (empty($r['id_shop']) || $r['id_shop'] == 1) { $config[$r['name']] = $r['value']; }
}
if (defined('__PS_BASE_URI__')) {
    $host = $config['PS_SHOP_DOMAIN'];
    $base = __PS_BASE_URI__;
} else {
    $shop = rows($db, "SELECT * FROM {$p}shop_url WHERE main = 1 AND active = 1 AND id_shop = 1")[0];
    $host = $shop['domain'];
    $base = $shop['physical_uri'];
    if ($host !== $config['PS_SHOP_DOMAIN']) { fail(500, 'Shop domain and configuration disagree'); }
}
if ($_SERVER['HTTP_HOST'] !== $host) {
    header("Location: http://$host$base", true, 302);
    exit;
}
foreach (array('compile', 'cache') as $dir) {
    $found = glob(__DIR__ . '/{cache/smarty,tools/smarty,var/cache}' . (isset($parameters) ? '' : "/$dir"), GLOB_BRACE);
    if (!$found || !is_writable($found[0])) { fail(500, "Template folder $dir is missing"); }
}
echo "<html><body><h1>", htmlspecialchars($config['PS_SHOP_NAME']), "</h1>\n";
foreach (rows($db, "SELECT * FROM {$p}product_lang ORDER BY id_product") as $r) {
    echo '<a class="product" href="', $base, $r['link_rewrite'], '">', htmlspecialchars($r['name']), "</a>\n", $r['description'], "\n";
}
foreach (rows($db, "SELECT * FROM {$p}cms_lang ORDER BY id_cms") as $r) { echo $r['content'], "\n"; }
$banner = @unserialize($config['STAR_BANNER']);
echo 'banner: ', $banner === false ? 'BROKEN' : print_r($banner, true), "\n";
echo 'connections: ', rows($db, "SELECT COUNT(*) n FROM {$p}connections")[0]['n'], "\n";
echo 'compiled: ', rows($db, "SELECT COUNT(*) n FROM {$p}smarty_cache")[0]['n'], "\n</body></html>\n";
