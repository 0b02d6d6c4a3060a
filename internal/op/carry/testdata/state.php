<?php
// Says what a site has, with names in place of numbers and the site's address taken out: php state.php ROOT ADDRESS. Two
// sites that are equal in all that people see say the same. What refers to nothing is listed apart.
[, $root, $address] = $argv;
$_SERVER['HTTP_HOST'] = parse_url($address, PHP_URL_HOST);
$_SERVER['REQUEST_URI'] = '/';
define('DISABLE_WP_CRON', true);
require $root . '/wp-load.php';
global $wpdb;
$dangling = [];
$hosts = array_unique([parse_url($address, PHP_URL_SCHEME) . '://' . parse_url($address, PHP_URL_HOST), rtrim($address, '/'),
	get_option('home'), get_option('siteurl')]);
usort($hosts, fn($a, $b) => strlen($b) - strlen($a));
$plain = fn($s) => preg_replace('/\bs:\d+:"/', 's:"', str_replace($root, '{root}', str_replace($hosts, '{site}', (string) $s)));

$post = [];
foreach ($wpdb->get_results("SELECT * FROM $wpdb->posts WHERE post_type <> 'revision' AND post_status <> 'auto-draft'") as $p) {
	$token = get_post_meta($p->ID, 'token', true);
	$post[$p->ID] = $token ?: "$p->post_type " . ($p->post_name ?: $p->post_title);
}
$term = $tt = [];
foreach ($wpdb->get_results("SELECT * FROM $wpdb->terms JOIN $wpdb->term_taxonomy USING (term_id)") as $t) {
	$term[$t->term_id] = $tt[$t->term_taxonomy_id] = "$t->taxonomy $t->slug";
}
$user = $wpdb->get_results("SELECT ID, user_login FROM $wpdb->users", OBJECT_K);
$comment = $wpdb->get_results("SELECT comment_ID, comment_content FROM $wpdb->comments", OBJECT_K);
foreach ($comment as $c) {
	$c->comment_content = $plain($c->comment_content);
}
$name = function (array $of, $id, string $where) use (&$dangling) {
	if (!(int) $id) {
		return '';
	}
	if (!isset($of[$id])) {
		$dangling[] = "$where refers to $id among " . (current($of)->user_login ?? current($of)->comment_content ?? current($of));
		return 'nothing';
	}
	return is_object($of[$id]) ? ($of[$id]->user_login ?? $of[$id]->comment_content) : $of[$id];
};
$text = function ($s, $where) use ($plain, $post, $name) {
	$s = preg_replace_callback('/(wp-image-|"id":|[?&]p=|[?&]page_id=)(\d+)/',
		fn($m) => $m[1] . $name($post, $m[2], $where), $plain($s));
	return preg_replace_callback('/ids="([\d,]+)"/', fn($m) => 'ids="' . implode(',',
		array_map(fn($id) => $name($post, $id, $where), explode(',', $m[1]))) . '"', $s);
};
$out = [];
foreach ($wpdb->get_results("SELECT * FROM $wpdb->posts WHERE post_type <> 'revision' AND post_status <> 'auto-draft'") as $p) {
	$who = "post {$post[$p->ID]}";
	$is = ['title' => $p->post_title, 'type' => $p->post_type, 'status' => $p->post_status, 'slug' => $p->post_name,
		'content' => $text($p->post_content, $who), 'author' => $name($user, $p->post_author, $who),
		'parent' => $name(get_post_meta($p->ID, '_menu_item_type', true) === 'taxonomy' ? $term : $post, $p->post_parent, $who), 'guid' => $text($p->guid, $who), 'order' => $p->menu_order,
		'comments' => $p->post_status === 'trash' ? 'not counted anew' : $p->comment_count, 'terms' => [], 'meta' => []];
	foreach ($wpdb->get_col("SELECT term_taxonomy_id FROM $wpdb->term_relationships WHERE object_id = $p->ID") as $id) {
		$is['terms'][] = $name($tt, $id, $who);
	}
	sort($is['terms']);
	foreach ($wpdb->get_results("SELECT meta_key, meta_value FROM $wpdb->postmeta WHERE post_id = $p->ID") as $m) {
		$v = $plain($m->meta_value);
		if (in_array($m->meta_key, ['_thumbnail_id', '_menu_item_menu_item_parent'], true) ||
			$m->meta_key === '_menu_item_object_id' && get_post_meta($p->ID, '_menu_item_type', true) === 'post_type') {
			$v = $name($post, $v, "$m->meta_key of $who");
		} elseif ($m->meta_key === '_menu_item_object_id' && get_post_meta($p->ID, '_menu_item_type', true) === 'taxonomy') {
			$v = $name($term, $v, "$m->meta_key of $who");
		}
		if (!in_array($m->meta_key, ['_edit_lock', '_edit_last', '_pingme', '_encloseme', '_wp_trash_meta_time'], true)) {
			$is['meta'][] = "$m->meta_key=$v";
		}
	}
	sort($is['meta']);
	if ($p->post_type === 'attachment') {
		$file = get_attached_file($p->ID);
		$is['file'] = is_file($file) ? md5_file($file) : 'none';
	}
	$out['posts'][] = [$who, $is];
}
foreach ($wpdb->get_results("SELECT * FROM $wpdb->terms JOIN $wpdb->term_taxonomy USING (term_id)") as $t) {
	$n = $wpdb->get_var("SELECT COUNT(*) FROM $wpdb->term_relationships WHERE term_taxonomy_id = $t->term_taxonomy_id");
	$out['terms'][] = ["term {$term[$t->term_id]}", ['name' => $t->name, 'parent' => $name($term, $t->parent, "term $t->slug"),
		'of' => $n, 'count' => $t->count, 'meta' => $wpdb->get_col("SELECT CONCAT(meta_key, '=', meta_value) FROM $wpdb->termmeta WHERE " .
			"term_id = $t->term_id ORDER BY 1")]];
}
foreach ($wpdb->get_results("SELECT * FROM $wpdb->comments") as $c) {
	$out['comments'][] = ["comment {$comment[$c->comment_ID]->comment_content}", ['on' => $name($post, $c->comment_post_ID, 'a comment'),
		'under' => $name($comment, $c->comment_parent, 'a comment'), 'by' => $name($user, $c->user_id, 'a comment'),
		'state' => $c->comment_approved]];
}
foreach ($wpdb->get_results("SELECT * FROM $wpdb->users") as $u) {
	$out['users'][] = ["user $u->user_login", ['mail' => $u->user_email, 'roles' => get_userdata($u->ID)->roles]];
}
$out['settings'][] = ['settings', ['description' => get_option('blogdescription'),
	'front' => $name($post, get_option('page_on_front'), 'page_on_front'),
	'sticky' => (function ($l) { sort($l); return $l; })(array_map(fn($id) => $post[$id] ?? 'nothing', // which the CMS passes over
		get_option('sticky_posts') ?: []))]];
foreach ($out as &$list) {
	usort($list, fn($a, $b) => strcmp(json_encode($a), json_encode($b)));
}
echo json_encode(['state' => $out, 'dangling' => $dangling], JSON_PRETTY_PRINT | JSON_UNESCAPED_SLASHES | JSON_UNESCAPED_UNICODE);
