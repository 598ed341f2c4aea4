<?php
// A small stand-in of the content system: the folder that answers to a host, one array or URL of databases, serialized rows.
require __DIR__ . '/standin.php';
function site_path() {
    $sites = array();
    if (is_file(__DIR__ . '/sites/sites.php')) { include __DIR__ . '/sites/sites.php'; }
    // The newer lines look for folders of hosts only where there is a map.
    elseif (is_file(__DIR__ . '/core/lib/Drupal.php')) { return 'sites/default'; }
    $uri = explode('/', dirname($_SERVER['SCRIPT_NAME']));
    $server = explode('.', implode('.', array_reverse(explode(':', rtrim($_SERVER['HTTP_HOST'], '.')))));
    for ($i = count($uri) - 1; $i >= 0; $i--) {
        for ($j = count($server); $j > 0; $j--) {
            $dir = implode('.', array_slice($server, -$j)) . implode('.', array_slice($uri, 0, $i + 1));
            if (isset($sites[$dir])) { $dir = $sites[$dir]; }
            if (is_file(__DIR__ . "/sites/$dir/settings.php")) { return "sites/$dir"; }
        }
    }
    return 'sites/default';
}
$site_path = site_path();
$app_root = __DIR__;
$databases = $conf = $settings = array();
if (!is_file(__DIR__ . "/$site_path/settings.php")) { fail(500, 'Installer'); }
require __DIR__ . "/$site_path/settings.php";
if (isset($db_url)) {
    $url = parse_url($db_url);
    $where = array('host' => urldecode($url['host']), 'port' => isset($url['port']) ? $url['port'] : '', 'username' => urldecode($url['user']),
        'password' => urldecode($url['pass']), 'database' => urldecode(substr($url['path'], 1)), 'prefix' => is_array($db_prefix) ? $db_prefix['default'] : $db_prefix);
} else {
    $where = $databases['default']['default'] + array('port' => '', 'unix_socket' => '');
}
connect($where['host'], $where['username'], $where['password'], $where['database'], $where['port'], isset($where['unix_socket']) ? $where['unix_socket'] : '');
$p = is_array($where['prefix']) ? $where['prefix']['default'] : $where['prefix'];
if (isset($settings['trusted_host_patterns'])) {
    $fits = false;
    foreach ($settings['trusted_host_patterns'] as $pattern) { $fits = $fits || preg_match('{' . $pattern . '}i', strtok($_SERVER['HTTP_HOST'], ':')); }
    if (!$fits) { fail(400, 'The provided host name is not valid for this server.'); }
}
if (isset($base_url)) { insist($base_url); }
foreach (glob(__DIR__ . "/$site_path/files/php/*/*") as $made) {
    if (stale(file_get_contents($made), __DIR__)) { fail(500, "Stale template $made"); }
}
$new = is_file(__DIR__ . '/core/lib/Drupal.php');
$cache = $new ? 'cache_container' : 'cache';
foreach (rows("SELECT data FROM {$p}$cache") as $r) {
    if (stale($r['data'], $new ? __DIR__ : $base_url)) { fail(500, 'Stale cache'); }
}
$here = asked_path() . asked('q');
if (strpos($here, 'user') === 0) {
    $base = base_path();
    $users = $new ? 'users_field_data' : 'users';
    $at = $new ? $base : "$base?q=";
    door(array('user' => 'name', 'password' => 'pass', 'hidden' => array('form_build_id' => 'form-' . md5('fake')), 'button' => array('op' => 'Log in'),
        'find' => function ($name) use ($p, $users) { return account("SELECT pass FROM {$p}$users WHERE name", $name); },
        'to' => "{$at}user/1", 'links' => array("{$at}user/1/edit", "{$at}user/logout")));
}
$kept = $new ? pairs("SELECT name, data FROM {$p}config WHERE collection = ''") : pairs("SELECT name, value FROM {$p}variable");
$title = $new ? unserialize($kept['system.site']) : unserialize($kept['site_name']);
begin_page(is_array($title) ? $title['name'] : $title);
facts(true);
echo $site_path, "\n";
$private = $new ? '' : unserialize($kept['file_private_path']);
if ($private !== '') { echo 'private: ', is_file(($private[0] === '/' ? '' : __DIR__ . '/') . $private . '/letter.txt') ? 'there' : 'MISSING', "\n"; }
foreach ($kept as $name => $value) { echo "$name: ", whole($value), "\n"; }
if ($new && isset($kept['x'])) { echo 'x'; }
facts(false);
$body = $new ? 'node__body' : (isset($db_url) ? 'node_revisions' : 'field_data_body');
foreach (rows("SELECT * FROM {$p}$body") as $r) { echo isset($r['body']) ? $r['body'] : $r['body_value'], "\n"; }
facts(true);
if (!$new) { foreach (rows("SELECT * FROM {$p}menu_links") as $r) { echo $r['link_path'], ': ', whole($r['options']), "\n"; } }
facts(false);
if (rows("SELECT COUNT(*) n FROM {$p}users WHERE uid = 0")[0]['n'] != 1) { fail(500, 'Anonymous has vanished'); }
