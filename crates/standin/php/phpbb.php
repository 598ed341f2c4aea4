<?php
// A small stand-in of the forum: plain variables, the address in four rows, cookies that must fit.
require __DIR__ . '/standin.php';
require __DIR__ . '/config.php';
if (!defined('PHPBB_INSTALLED')) { fail(500, 'Installer'); }
foreach (glob(__DIR__ . '/cache/{data_*,container_*,*/*}', GLOB_BRACE) as $made) {
    $text = file_get_contents($made);
    if (stale($text, __DIR__) && stale($text, $_SERVER['HTTP_HOST'])) { fail(500, 'Fatal error in a stale cache'); }
}
connect($dbhost, $dbuser, $dbpasswd, $dbname, $dbport);
$p = $table_prefix;
$config = pairs("SELECT config_name, config_value FROM {$p}config");
$secure = !empty($_SERVER['HTTPS']);
if ($config['force_server_vars']) {
    $usual = array('http://' => '80', 'https://' => '443');
    $port = $usual[$config['server_protocol']] === $config['server_port'] ? '' : ':' . $config['server_port'];
    $board = $config['server_protocol'] . $config['server_name'] . $port . rtrim($config['script_path'], '/');
    insist($board);
} else {
    // The rows are read only where there is no request.
    $board = ($secure ? 'https://' : 'http://') . $_SERVER['HTTP_HOST'] . rtrim($config['script_path'], '/');
}
if ($config['cookie_secure'] && !$secure) { fail(500, 'Cookies are lost: they need TLS'); }
$host = strtok($_SERVER['HTTP_HOST'], ':');
if ($config['cookie_domain'] !== '' && $config['cookie_domain'] !== $host && substr(".$host", -strlen($config['cookie_domain'])) !== $config['cookie_domain']) { fail(500, 'Cookies are lost'); }
if (strpos($_SERVER['REQUEST_URI'], $config['cookie_path']) !== 0) { fail(500, 'Cookies are lost'); }
if ($config['board_disable']) { fail(503, 'The board is closed'); }
if (isset($door_area)) {
    $back = $door_area === 'adm';
    door(array('user' => 'username', 'password' => $back ? 'password_' . md5('fake') : 'password', 'cookie' => $config['cookie_name'] . '_u',
        'hidden' => array('form_token' => sha1('fake' . $board), 'sid' => md5('fake')), 'button' => array('login' => 'Login'), 'failure' => '<div class="error">No match</div>',
        'find' => function ($name) use ($p) {
            $found = account("SELECT user_password FROM {$p}users WHERE username", $name);
            return $found ? array(html_entity_decode($found[0])) : null;
        },
        'links' => $back ? array(base_path() . 'adm/index.php?i=1', base_path() . 'adm/index.php?i=2') : array(base_path() . 'ucp.php?i=pm', base_path() . 'ucp.php?mode=logout')));
}
begin_page($config['sitename']);
echo '<h1>', htmlspecialchars($config['sitename']), "</h1>\nboard: $board\n";
foreach (rows("SELECT * FROM {$p}posts ORDER BY post_id") as $r) { echo html_entity_decode($r['post_text'], ENT_QUOTES, 'UTF-8'), "\n"; }
facts(true);
foreach (rows("SELECT * FROM {$p}forums") as $r) { echo 'forum: ', $r['forum_link'], ' ', html_entity_decode($r['forum_rules'], ENT_QUOTES, 'UTF-8'), "\n"; }
foreach (rows("SELECT * FROM {$p}log") as $r) { echo 'log: ', whole($r['log_data']), "\n"; }
echo 'sessions: ', rows("SELECT COUNT(*) n FROM {$p}sessions")[0]['n'], "\n";
facts(false);
