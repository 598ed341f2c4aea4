<?php
// A small stand-in that behaves like the content system where it matters for a move: it reads the same config class,
// refuses wrong credentials, forces its stored address where one is stored, and prints what its rows hold.
require __DIR__ . '/standin.php';
require __DIR__ . '/configuration.php';
$c = new JConfig();

if (is_dir(__DIR__ . '/installation')) { fail(503, 'Installer found'); }
connect($c->host, $c->user, $c->password, $c->db);

$request = (empty($_SERVER['HTTPS']) ? 'http://' : 'https://') . $_SERVER['HTTP_HOST'];
if ($c->live_site !== '' && strpos($c->live_site . '/', $request . '/') !== 0) {
    header('Location: ' . $c->live_site, true, 301);
    exit;
}
$p = $c->dbprefix;

$old = isset($GLOBALS['door_area']) ? false : asked('option') === 'com_user';
if (isset($door_area) || $old || asked('option') === 'com_users') {
    $back = isset($door_area);
    $leave = $back ? 'index.php?option=com_login&task=logout' : ($old ? 'index.php?option=com_user&task=logout' : 'index.php?option=com_users&task=user.logout');
    door(array('user' => 'username', 'password' => $back || $old ? 'passwd' : 'password', 'hidden' => array(md5('fake' . $c->secret) => '1'),
        'find' => function ($name) use ($p) { return account("SELECT password FROM {$p}users WHERE username", $name); },
        'links' => $back ? array('index.php?option=com_content', 'index.php?option=com_menus', $leave) : array('index.php?option=com_content', $leave)));
}
begin_page($c->sitename);
foreach (rows("SELECT * FROM {$p}menu ORDER BY id") as $m) {
    echo '<a class="menu" href="', htmlspecialchars($m['link']), '">', htmlspecialchars($m['title']), "</a>\n";
}
foreach (rows("SELECT * FROM {$p}content ORDER BY id") as $a) {
    echo '<h2>', htmlspecialchars($a['title']), "</h2>\n", $a['introtext'], $a['fulltext'], "\n";
    $images = json_decode($a['images'], true);
    facts(true);
    if (is_array($images)) { foreach ($images as $k => $v) { echo "image $k: $v\n"; } }
    facts(false);
}
facts(true);
foreach (rows("SELECT object FROM {$p}finder_links ORDER BY link_id") as $f) {
    $o = @unserialize($f['object']);
    echo 'index entry: ', $o === false ? 'BROKEN' : print_r($o, true), "\n";
}
foreach (array('log_path', 'tmp_path') as $k) {
    echo "$k: ", is_dir($c->$k) && is_writable($c->$k) ? 'writable' : 'MISSING', "\n";
}
echo 'sessions: ', rows("SELECT COUNT(*) n FROM {$p}session")[0]['n'], "\n";
facts(false);
echo "</body></html>\n";
