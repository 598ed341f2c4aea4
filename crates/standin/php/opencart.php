<?php
// A small stand-in of the shop: two config files that must agree, folders that must be there, entity-encoded text.
require __DIR__ . '/standin.php';
define('VERSION', '{VERSION}');
require __DIR__ . '/config.php';
foreach (array('DIR_APPLICATION', 'DIR_SYSTEM', 'DIR_IMAGE') as $name) {
    if (!is_dir(constant($name))) { fail(500, "Could not load $name"); }
}
if (!is_dir(DIR_CACHE) || !is_writable(DIR_CACHE)) { fail(500, 'Cache folder is missing'); }
if (defined('DIR_STORAGE') && !is_file(DIR_STORAGE . 'vendor/autoload.php')) { fail(500, 'Failed opening required vendor/autoload.php'); }
connect(DB_HOSTNAME, DB_USERNAME, DB_PASSWORD, DB_DATABASE, defined('DB_PORT') ? DB_PORT : '');
insist(HTTP_SERVER);
$office = file_get_contents(glob(__DIR__ . '/*/config.php')[0]);
foreach (array(HTTP_SERVER, DB_DATABASE, DB_PREFIX) as $same) {
    if (strpos($office, "'" . addcslashes($same, "'\\") . "'") === false) { fail(500, "The back office does not know $same"); }
}
$p = DB_PREFIX;
$config = pairs("SELECT `key`, value FROM {$p}setting WHERE store_id = 0");
if ($config['config_maintenance']) { fail(503, 'Maintenance'); }
$four = VERSION[0] === '4';
if (isset($door_area) || strpos(asked('route'), 'account/') === 0) {
    $back = isset($door_area);
    $at = base_path() . ($back ? $door_area . '/' : '') . 'index.php?route=';
    $token = $four ? array('login_token' => md5('fake' . DB_PASSWORD)) : array();
    $sign = VERSION[0] === '3' || $four ? 'user_token' : 'token';
    door(array('user' => $back ? 'username' : 'email', 'password' => 'password', 'hidden' => $token, 'json' => $four, 'failure' => '<div class="alert">No match</div>',
        'find' => function ($name) use ($p, $back) {
            return $back ? account("SELECT password FROM {$p}user WHERE username", $name) : account("SELECT password FROM {$p}customer WHERE email", $name);
        },
        'to' => $back ? "{$at}common/dashboard&$sign=fake" : ($four ? "{$at}account/account" : null),
        'links' => $back ? array("{$at}catalog/product&$sign=fake", "{$at}sale/order&$sign=fake", "{$at}common/logout&$sign=fake") : array("{$at}account/order", "{$at}account/logout")));
}
begin_page($config['config_name']);
echo '<h1>', htmlspecialchars($config['config_name']), "</h1>\n", HTTP_SERVER, "\n";
foreach (rows("SELECT * FROM {$p}information_description") as $r) { echo html_entity_decode($r['description'], ENT_QUOTES, 'UTF-8'), "\n"; }
facts(true);
foreach (rows("SELECT * FROM {$p}setting WHERE serialized = 1") as $r) { echo $r['key'], ': ', whole($r['value']), "\n"; }
foreach (rows("SELECT * FROM {$p}store") as $r) { echo 'store: ', $r['url'], "\n"; }
foreach (rows("SELECT * FROM {$p}banner_image") as $r) { echo 'banner: ', $r['link'], "\n"; }
echo 'sessions: ', rows("SELECT COUNT(*) n FROM {$p}session")[0]['n'], "\n";
facts(false);
