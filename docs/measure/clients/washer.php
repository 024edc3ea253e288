<?php
// Puts markup through the sanitiser of Debian's package roundcube-core, as it is when a message is read with remote
// pictures blocked. Reads a JSON list of markup from the standard input and writes the list of results.
error_reporting(E_ALL & ~E_DEPRECATED & ~E_NOTICE & ~E_WARNING);
define('RCUBE_CHARSET', 'UTF-8');
define('RCMAIL_CHARSET', 'UTF-8');
$root = '/usr/share/roundcube/program/';

// The callbacks ask the application for its instance and, for local links, for an address; nothing else of it is
// needed here.
class rcmail_stub { public $output; public $plugins; public function url($p) { return './?local'; } }
class rcmail { public static function get_instance() { static $i; return $i ?? ($i = new rcmail_stub()); } }
class rcmail_output { const JS_OBJECT_NAME = 'rcmail'; }
class rcube { const JQ = 1; public static function JQ($s) { return addslashes($s); } public static function raise_error() {} public static function get_instance() { return rcmail::get_instance(); } }
spl_autoload_register(function ($class) use ($root) {
    $file = $root . 'lib/Roundcube/' . $class . '.php';
    if (is_file($file)) {
        require_once $file;
        return;
    }
    $file = '/usr/share/php/' . str_replace('\\', '/', $class) . '.php';
    if (is_file($file)) {
        require_once $file;
    }
});
abstract class rcmail_action { }
require_once $root . 'actions/mail/index.php';

$list = json_decode(stream_get_contents(STDIN), true);
$out = [];
foreach ($list as $html) {
    $washer = new rcube_washtml(['show_washed' => false, 'allow_remote' => false, 'blocked_src' => 'program/resources/blocked.gif',
        'charset' => RCUBE_CHARSET, 'html_elements' => ['body'], 'css_prefix' => 'v1', 'add_comments' => false]);
    foreach (['body', 'form', 'style'] as $tag) {
        $washer->add_callback($tag, 'rcmail_action_mail_index::washtml_callback');
    }
    foreach (['a', 'area', 'link'] as $tag) {
        $washer->add_callback($tag, 'rcmail_action_mail_index::washtml_link_callback');
    }
    $head = '<head><meta charset="UTF-8" /></head>';
    $count = 0;
    $html = preg_replace('/(<head[^>]*>)/Ui', '\\1<meta charset="UTF-8" />', $html, -1, $count);
    if (!$count) {
        $html = stripos($html, '<html') === false ? '<html>' . $head . $html : preg_replace('/<html[^>]*>/i', '$0' . $head, $html, 1);
    }
    $out[] = $washer->wash($html);
}
echo json_encode($out, JSON_UNESCAPED_UNICODE | JSON_UNESCAPED_SLASHES | JSON_INVALID_UTF8_SUBSTITUTE);
