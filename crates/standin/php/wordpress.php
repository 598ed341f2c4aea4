<?php
// A small stand-in of the blog: constants, the stored address, roles under keys that begin with the prefix.
require __DIR__ . '/standin.php';
require __DIR__ . '/wp-config.php';
if (is_file(__DIR__ . '/.maintenance')) { fail(503, 'Briefly unavailable for scheduled maintenance'); }
$hooks = array();
function add_action($name, $what) { global $hooks; $hooks[$name][] = $what; }
function add_filter($name, $what) { add_action($name, $what); }
function current_user_can($what) { return false; }
function wp_die($text, $title, $how) { fail($how['response'], $text); }
foreach (glob(__DIR__ . '/wp-content/mu-plugins/*.php') as $plugin) { require $plugin; }
connect(DB_HOST, DB_USER, DB_PASSWORD, DB_NAME);
$p = $table_prefix;
$options = pairs("SELECT option_name, option_value FROM {$p}options");
if (defined('MULTISITE') && MULTISITE) {
    $request = strtok($_SERVER['REQUEST_URI'], '?');
    if ($_SERVER['HTTP_HOST'] !== DOMAIN_CURRENT_SITE) { fail(500, 'Error establishing a database connection'); }
    $found = null;
    foreach (rows("SELECT * FROM {$p}blogs ORDER BY LENGTH(path) DESC") as $blog) {
        if ($blog['domain'] === $_SERVER['HTTP_HOST'] && strpos($request, $blog['path']) === 0) { $found = $blog; break; }
    }
    $site = rows("SELECT * FROM {$p}site")[0];
    if (!$found || $site['path'] !== PATH_CURRENT_SITE || $site['domain'] !== DOMAIN_CURRENT_SITE) { fail(404, 'No such site in this network'); }
    if ($found['blog_id'] > 1) {
        $options = pairs("SELECT option_name, option_value FROM {$p}{$found['blog_id']}_options") + array('blogname' => '');
        if (!isset($options["{$p}{$found['blog_id']}_user_roles"])) { fail(403, 'Sorry, you are not allowed to access this page'); }
    }
} else {
    insist($options['home']);
}
$posts = isset($found) && $found['blog_id'] > 1 ? "{$p}{$found['blog_id']}_postmeta" : "{$p}postmeta";
$here = asked_path();
if (isset($door_area) || strpos($here, 'my-account') === 0) {
    $back = isset($door_area);
    $at = base_path() . 'wp-admin/';
    door(array('user' => $back ? 'log' : 'username', 'password' => $back ? 'pwd' : 'password', 'cookie' => 'wordpress_logged_in_' . md5('fake'),
        'hidden' => $back ? array() : array('woocommerce-login-nonce' => md5('fake')), 'failure' => '<div id="login_error" class="woocommerce-error">No match</div>',
        'button' => $back ? array('wp-submit' => 'Log In') : array('login' => 'Log in'), 'action' => $back ? base_path() . 'wp-login.php' : '',
        'find' => function ($name) use ($p) { return account("SELECT user_pass FROM {$p}users WHERE user_login", $name); },
        'to' => $back ? $at : null,
        'links' => $back ? array("{$at}index.php?page=posts", "{$at}index.php?page=users", base_path() . 'wp-login.php?action=logout') : array(base_path() . 'my-account/orders/', base_path() . 'my-account/customer-logout/')));
}
foreach (isset($hooks['template_redirect']) ? $hooks['template_redirect'] : array() as $hook) { $hook(); }
$roles = isset($options["{$p}user_roles"]) ? @unserialize($options["{$p}user_roles"]) : (isset($found) && $found['blog_id'] > 1);
$meta = pairs("SELECT meta_key, meta_value FROM {$p}usermeta WHERE user_id = 1");
if (!$roles || !isset($meta["{$p}capabilities"])) { fail(403, 'Sorry, you are not allowed to access this page'); }
begin_page($options['blogname']);
facts(true);
foreach (rows("SELECT * FROM $posts WHERE meta_key = '_menu_item_url'") as $r) { echo 'menu: ', $r['meta_value'], "\n"; }
facts(false);
echo '<h1>', htmlspecialchars($options['blogname']), "</h1>\n", $options['home'], ' ', $options['siteurl'], "\n";
foreach (rows("SELECT * FROM {$p}posts ORDER BY ID") as $r) { echo '<h2>', htmlspecialchars($r['post_title']), "</h2>\n", $r['post_content'], "\n"; }
facts(true);
foreach ($options as $name => $value) { if (strpos($name, 'widget_') === 0) { echo "$name: ", whole($value), "\n"; } }
foreach (rows("SELECT * FROM {$p}postmeta WHERE meta_key <> '_menu_item_url' ORDER BY meta_id") as $r) { echo $r['meta_key'], ': ', whole($r['meta_value']), "\n"; }
facts(false);
