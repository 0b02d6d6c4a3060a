<?php
// Fills a WordPress site of one of three sizes with made-up content:
//   fill.php ROOT small|medium|large
// Rows go in by plain SQL, so that sixty thousand posts take seconds; the
// values are in every encoding that plugins are known to use, and refer to
// other rows by their ids.
error_reporting(E_ALL & ~E_DEPRECATED & ~E_NOTICE & ~E_WARNING);
list(, $root, $size) = $argv;
$sizes = array( // posts, further metadata rows, files, bytes of files
	'small'  => array(50, 200, 100, 5 << 20),
	'medium' => array(5000, 20000, 2000, 300 << 20),
	'large'  => array(60000, 340000, 20000, 2 << 30),
);
list($posts, $more, $files, $bytes) = $sizes[$size];
$_SERVER['HTTP_HOST'] = 'localhost';
$_SERVER['REQUEST_URI'] = '/';
foreach (array('pre_wp_mail' => true) as $hook => $value) {
	$GLOBALS['wp_filter'][$hook][1]['fill'] = array('function' => function () use ($value) { return $value; }, 'accepted_args' => 0);
}
require $root . '/wp-load.php';
global $wpdb;
mt_srand(crc32($size));
$url = untrailingslashit(get_option('home'));
$db = $wpdb->dbh;
mysqli_query($db, 'SET autocommit = 0, unique_checks = 0, foreign_key_checks = 0');
$words = explode(' ', 'harbour tide ferry lamp rope gull quay fog island bell mast crew buoy deck keel wake salt storm slip anchor Überfahrt städte 東京');

function text($n) {
	global $words;
	$out = array();
	for ($i = 0; $i < $n; $i++) {
		$out[] = $words[mt_rand(0, count($words) - 1)];
	}
	return implode(' ', $out);
}

function rows($table, $columns, $list) {
	global $db;
	foreach (array_chunk($list, 400) as $chunk) {
		$values = array();
		foreach ($chunk as $r) {
			$values[] = '(' . implode(',', array_map(function ($v) use ($db) { return $v === null ? 'NULL' : "'" . mysqli_real_escape_string($db, (string) $v) . "'"; }, $r)) . ')';
		}
		if (!mysqli_query($db, "INSERT INTO `$table` ($columns) VALUES " . implode(',', $values))) {
			fwrite(STDERR, mysqli_error($db) . "\n");
			exit(1);
		}
	}
	mysqli_query($db, 'COMMIT');
}

// Values as plugins write them: one in eight holds the site's address.
function value($i, $url) {
	switch ($i % 4 === 0 ? intdiv($i, 4) % 12 : array(2, 4, 7, 8, 10, 11)[$i % 6]) {
		case 0: return $url . '/page/' . $i . '/';
		case 1: return serialize(array('link' => $url . '/a/' . $i, 'n' => $i, 'on' => true, 'f' => 0.5, 'none' => null, 'städte' => 'ü' . $url));
		case 2: return serialize(array('title' => text(6), 'ids' => array($i, $i + 1), 'box' => array('w' => 10, 'h' => array(1, 2))));
		case 3: return json_encode(array('url' => $url . '/j/' . $i, 'id' => $i));
		case 4: return json_encode(array('text' => text(8), 'ids' => array($i)), JSON_UNESCAPED_UNICODE);
		case 5: return base64_encode(serialize(array('u' => $url . '/b/' . $i)));
		case 6: return serialize(array('inner' => serialize(array('json' => json_encode(array('deep' => $url . '/d/' . $i))))));
		case 7: return (string) mt_rand(1, 60000);
		case 8: return text(12);
		case 9: return 'https://maps.example/?u=' . rawurlencode($url . '/quay?x=' . $i);
		case 10: $o = new stdClass(); $o->id = $i; $o->words = text(4); return serialize($o);
		default: return 'field_' . dechex($i * 7919);
	}
}

$first = 1000;
$list = array();
$meta = array();
for ($i = 0; $i < $posts; $i++) {
	$id = $first + $i;
	$body = '';
	for ($p = 0; $p < 6; $p++) {
		$body .= "<!-- wp:paragraph -->\n<p>" . text(40) . ($p === 2 ? ' <a href="' . $url . '/post-' . mt_rand(0, $posts) . '/">on</a>' : '') . "</p>\n<!-- /wp:paragraph -->\n";
	}
	$body .= '<!-- wp:image {"id":' . ($first + mt_rand(0, $posts - 1)) . '} --><img src="' . $url . '/wp-content/uploads/2026/' . ($i % 97) . '.jpg"/><!-- /wp:image -->';
	$date = gmdate('Y-m-d H:i:s', 1600000000 + $i * 600);
	$list[] = array($id, 1, $date, $date, $body, 'Post ' . $i, '', 'publish', 'post-' . $i, $date, $date, $i % 50 ? 0 : $first, $url . '/?p=' . $id, 'post', '', '', '');
	$meta[] = array($id, '_thumbnail_id', $first + mt_rand(0, $posts - 1));
	if (count($list) === 4000 || $i === $posts - 1) {
		rows($wpdb->posts, 'ID, post_author, post_date, post_date_gmt, post_content, post_title, post_excerpt, post_status, post_name, post_modified, post_modified_gmt, post_parent, guid, post_type, to_ping, pinged, post_content_filtered', $list);
		$list = array();
	}
}
for ($i = 0; $i < $more; $i++) {
	$meta[] = array($first + $i % $posts, array('_layout', 'seo_title', '_builder', 'gallery', '_price')[$i % 5], value($i, $url));
	if (count($meta) >= 8000) {
		rows($wpdb->postmeta, 'post_id, meta_key, meta_value', $meta);
		$meta = array();
	}
}
rows($wpdb->postmeta, 'post_id, meta_key, meta_value', $meta);
$options = array();
for ($i = 0; $i < min(2000, $posts); $i++) {
	$options[] = array('ferry_setting_' . $i, value($i, $url), $i % 3 ? 'no' : 'yes');
}
rows($wpdb->options, 'option_name, option_value, autoload', $options);
mysqli_query($db, "CREATE TABLE {$wpdb->prefix}odd_visits (at DATE, path VARCHAR(180), n INT)");
mysqli_query($db, "CREATE TABLE {$wpdb->prefix}odd_pairs (a INT NOT NULL, b VARCHAR(60) NOT NULL, v VARBINARY(200), PRIMARY KEY (a, b))");
mysqli_query($db, "CREATE TABLE {$wpdb->prefix}odd_latin (id INT PRIMARY KEY AUTO_INCREMENT, t TEXT) CHARSET=latin1");
$visits = array();
for ($i = 0; $i < min(20000, $posts); $i++) {
	$visits[] = array('2026-01-0' . (1 + $i % 9), '/post-' . ($i % 300) . '/', $i % 5);
}
rows("{$wpdb->prefix}odd_visits", 'at, path, n', $visits);
rows("{$wpdb->prefix}odd_pairs", 'a, b, v', array(array(1, 'a', "\x00\xff\n'"), array(1, 'b', $url), array(2, 'a', '')));
mysqli_query($db, "INSERT INTO {$wpdb->prefix}odd_latin (t) VALUES (_latin1 x'fc80'), ('" . mysqli_real_escape_string($db, $url) . "/l')");
mysqli_query($db, 'COMMIT');
$left = $bytes;
for ($i = 0; $i < $files; $i++) {
	$dir = "$root/wp-content/uploads/" . (2020 + $i % 7) . '/' . sprintf('%02d', 1 + $i % 12) . '/' . ($i % 40);
	if (!is_dir($dir)) {
		mkdir($dir, 0755, true);
	}
	$n = (int) min($left, $i === $files - 1 ? $left : ($left / ($files - $i)) * (mt_rand(20, 180) / 100));
	$left -= $n;
	file_put_contents("$dir/file-$i." . array('jpg', 'png', 'pdf', 'webp')[$i % 4], $n > 0 ? random_bytes(min($n, 65536)) . str_repeat(pack('N', $i), (int) (max(0, $n - 65536) / 4)) : '');
}
wp_cache_flush();
echo "done\n";
