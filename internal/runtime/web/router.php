<?php
// Written by Alibi: what a web server does for a site, for PHP's own server.
$path = rawurldecode(strtok($_SERVER['REQUEST_URI'], '?'));
$root = $_SERVER['DOCUMENT_ROOT'];
$file = realpath($root . $path);
$inside = $file !== false && ($file === $root || strpos($file, $root . '/') === 0);
if (!$inside && preg_match('#^(/[^/]+)?(/wp-(?:content|admin|includes)/.*|/[^/]*\.php)$#', $path, $m)) {
	$file = realpath($root . $m[2]);
	$inside = $file !== false && strpos($file, $root . '/') === 0;
	$path = $m[2];
}
// As in nginx.conf: what would be shown as text, or run, and must not be.
$closed = array(
	'#/\.(?!well-known/)#',
	'#/uploads/.*\.(php[0-9]?|phtml|phar)(/|$)#i',
	'#\.(php[0-9]?|phtml|phar|phps|inc)([.~_-][^/]*)$#i',
	'#\.(php[0-9]|phtml|phar|phps|inc)$#i',
	'#(~|\.(env|ini|log|sql|pem|key|p12|pfx|bak|old|orig|save|swp|dist|conf|config|ya?ml|toml|lock|sh))$#i',
	'#^(?!.*/uploads/).*(?<!\.xml)\.(zip|tar|tgz|gz|bz2|xz|zst|7z|rar)$#i',
);
if (preg_filter($closed, '', $path) !== null) {
	http_response_code(403);
	return true;
}
if ($inside && is_dir($file)) {
	if (substr($path, -1) !== '/') {
		header('Location: ' . $path . '/', true, 301);
		return true;
	}
	foreach (array('index.php', 'index.html') as $index) {
		if (is_file($file . '/' . $index)) {
			$path .= $index;
			$file .= '/' . $index;
			break;
		}
	}
}
if (!$inside || !is_file($file)) {
	$path = '/index.php';
	$file = $root . $path;
}
if (substr($file, -4) !== '.php') {
	if ($path === rawurldecode(strtok($_SERVER['REQUEST_URI'], '?'))) {
		return false;
	}
	$types = array('css' => 'text/css', 'js' => 'text/javascript', 'svg' => 'image/svg+xml', 'png' => 'image/png', 'jpg' => 'image/jpeg');
	$ext = strtolower(pathinfo($file, PATHINFO_EXTENSION));
	header('Content-Type: ' . (isset($types[$ext]) ? $types[$ext] : 'application/octet-stream'));
	readfile($file);
	return true;
}
$_SERVER['SCRIPT_NAME'] = $_SERVER['PHP_SELF'] = $path;
$_SERVER['SCRIPT_FILENAME'] = $file;
if (!empty($_SERVER['HTTP_ALIBI_PORT'])) {
	$_SERVER['SERVER_PORT'] = $_SERVER['HTTP_ALIBI_PORT'];
}
chdir(dirname($file));
require $file;
