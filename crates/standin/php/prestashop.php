<?php
// A small stand-in that behaves like the shop where it matters for a move: defines in one file, the shop's address in rows,
// a redirect to the stored host, links with the stored base path.
require __DIR__ . '/standin.php';
if (is_file(__DIR__ . '/app/config/parameters.php')) {
    // The newer lines keep their parameters in a returned array, and copies of them in caches.
    $parameters = require __DIR__ . '/app/config/parameters.php';
    $made = __DIR__ . '/var/cache/prod/appParameters.php';
    if (is_file($made) && (require $made) != $parameters) { fail(500, 'Reads the old database'); }
    $parameters = array_map(function ($v) {
        if (is_string($v) && preg_match('/%(?!%)/', str_replace('%%', '', $v))) { fail(500, 'You have requested a non-existent parameter'); }
        return is_string($v) ? str_replace('%%', '%', $v) : $v;
    }, $parameters['parameters']);
    $port = $parameters['database_port'] !== '' ? ':' . $parameters['database_port'] : '';
    define('_DB_SERVER_', $parameters['database_host'] . $port);
    define('_DB_NAME_', $parameters['database_name']);
    define('_DB_USER_', $parameters['database_user']);
    define('_DB_PASSWD_', $parameters['database_password']);
    define('_DB_PREFIX_', $parameters['database_prefix']);
} else {
    require __DIR__ . '/config/settings.inc.php';
}


$made = __DIR__ . '/cache/class_index.php';
if (is_file($made) && stale(file_get_contents($made), __DIR__)) { fail(500, 'Fatal error: class not found (stale class index)'); }
connect(_DB_SERVER_, _DB_USER_, _DB_PASSWD_, _DB_NAME_);
$p = _DB_PREFIX_;
$config = array();
foreach (rows("SELECT * FROM {$p}configuration ORDER BY id_configuration") as $r) {
    // A row of another shop overrides the value for that shop alone.
    if (empty($r['id_shop']) || $r['id_shop'] == 1) { $config[$r['name']] = $r['value']; }
}
if (defined('__PS_BASE_URI__')) {
    $host = $config['PS_SHOP_DOMAIN'];
    $base = __PS_BASE_URI__;
} else {
    $shop = rows("SELECT * FROM {$p}shop_url WHERE main = 1 AND active = 1 AND id_shop = 1")[0];
    $host = $shop['domain'];
    $base = $shop['physical_uri'];
    if ($host !== $config['PS_SHOP_DOMAIN']) { fail(500, 'Shop domain and configuration disagree'); }
}
$secure = !empty($_SERVER['HTTPS']);
$insists = !empty($config['PS_SSL_ENABLED']) && !empty($config['PS_SSL_ENABLED_EVERYWHERE']);
if ($_SERVER['HTTP_HOST'] !== $host || $insists && !$secure) {
    header('Location: ' . ($insists ? 'https' : 'http') . "://$host$base", true, 302);
    exit;
}
foreach (array('compile', 'cache') as $dir) {
    $found = glob(__DIR__ . '/{cache/smarty,tools/smarty,var/cache}' . (isset($parameters) ? '' : "/$dir"), GLOB_BRACE);
    if (!$found || !is_writable($found[0])) { fail(500, "Template folder $dir is missing"); }
}
$key = isset($parameters) ? '' : _COOKIE_KEY_;
$office = strtok(asked_path(), '/');
$in_office = isset($door_area) || strncmp((string) $office, 'admin', 5) === 0;
if ($in_office || asked('controller') === 'authentication' || isset($door_front)) {
    $at = $base . ($in_office ? "$office/" : '') . 'index.php?controller=';
    $new = isset($parameters);
    door(array('user' => 'email', 'password' => $in_office || !$new ? 'passwd' : 'password',
        'hidden' => $new ? array('token' => md5('fake' . _DB_PASSWD_)) : array(), 'button' => array($in_office ? 'submitLogin' : ($new ? 'submitLogin' : 'SubmitLogin') => '1'),
        'find' => function ($name) use ($p, $in_office, $key) {
            $found = $in_office ? account("SELECT passwd FROM {$p}employee WHERE email", $name) : account("SELECT passwd FROM {$p}customer WHERE email", $name);
            return $found ? array($found[0], $key) : null;
        },
        'to' => $in_office ? "{$at}AdminDashboard&token=fake" : null,
        'links' => $in_office ? array("{$at}AdminOrders&token=fake", "{$at}AdminProducts&token=fake", "{$at}AdminLogin&logout&token=fake") : array("{$base}history", "{$base}?mylogout")));
}
begin_page($config['PS_SHOP_NAME']);
facts(true);
foreach (rows("SELECT * FROM {$p}linksmenutop_lang") as $r) { echo 'menu: ', $r['link'], "\n"; }
facts(false);
echo "<h1>", htmlspecialchars($config['PS_SHOP_NAME']), "</h1>\n";
foreach (rows("SELECT * FROM {$p}product_lang ORDER BY id_product") as $r) {
    echo '<a class="product" href="', $base, $r['link_rewrite'], '">', htmlspecialchars($r['name']), "</a>\n", $r['description'], "\n";
}
foreach (rows("SELECT * FROM {$p}cms_lang ORDER BY id_cms") as $r) { echo $r['content'], "\n"; }
facts(true);
$banner = @unserialize($config['STAR_BANNER']);
echo 'banner: ', $banner === false ? 'BROKEN' : print_r($banner, true), "\n";
echo 'connections: ', rows("SELECT COUNT(*) n FROM {$p}connections")[0]['n'], "\n";
echo 'compiled: ', rows("SELECT COUNT(*) n FROM {$p}smarty_cache")[0]['n'], "\n";
facts(false);
echo "</body></html>\n";
