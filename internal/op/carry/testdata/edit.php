<?php
// Edits a site at random, by the CMS's own functions: php edit.php ROOT ADDRESS SIDE SEED STEPS. It says what it did,
// a line of JSON each.
[, $root, $address, $side, $seed, $steps] = $argv;
$_SERVER['HTTP_HOST'] = parse_url($address, PHP_URL_HOST);
$_SERVER['REQUEST_URI'] = '/';
define('WP_ADMIN', true);
define('DISABLE_WP_CRON', true);
require $root . '/wp-load.php';
require_once ABSPATH . 'wp-admin/includes/admin.php';
wp_set_current_user(1);
mt_srand(crc32("$side $seed"));

function one(array $list) { return $list[mt_rand(0, count($list) - 1)]; }
function told(array $what) { echo json_encode($what), "\n"; }
$made = 0;
function token() { global $side, $seed, $made; $made++; return "t-$side-$seed-$made"; }
function posts(string $type): array {
	return get_posts(['post_type' => $type, 'post_status' => ['publish', 'draft', 'inherit'], 'numberposts' => -1,
		'fields' => 'ids', 'orderby' => 'ID', 'order' => 'ASC', 'suppress_filters' => true]);
}
// numbered gives lines that either side may change: the live site those with even numbers, the copy the others.
function lines(string $token): string {
	$out = [];
	for ($i = 0; $i < 8; $i++) {
		$out[] = "line $i of $token: as made";
		$out[] = '';
	}
	return implode("\n", $out);
}
function picture(): int {
	$token = token();
	$up = wp_upload_bits("$token.png", null, base64_decode('iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAYAAAAfFcSJAAAADUlEQVR4nGP4z8BQDwAEgAF/posBPQAAAABJRU5ErkJggg==') . $token);
	$id = wp_insert_attachment(['post_title' => $token, 'post_name' => $token, 'post_mime_type' => 'image/png',
		'post_status' => 'inherit'], $up['file']);
	wp_update_attachment_metadata($id, ['width' => 1, 'height' => 1, 'file' => _wp_relative_upload_path($up['file']),
		'sizes' => []]);
	add_post_meta($id, 'token', $token);
	told(['op' => 'made', 'token' => $token]);
	return $id;
}
function page(string $type): int {
	$token = token();
	$id = wp_insert_post(wp_slash(['post_type' => $type, 'post_title' => $token, 'post_name' => $token,
		'post_status' => one(['publish', 'publish', 'draft']), 'post_content' => lines($token),
		'post_parent' => $type === 'page' && mt_rand(0, 2) === 0 ? (int) one(posts('page')) : 0]), true);
	add_post_meta($id, 'token', $token);
	told(['op' => 'made', 'token' => $token]);
	return $id;
}
$acts = [
	'post' => fn() => page('post'),
	'page' => fn() => page('page'),
	'block' => fn() => page('wp_block'),
	'picture' => fn() => picture(),
	'line' => function () use ($side) {
		$id = one(posts(one(['post', 'page', 'wp_block'])) ?: posts('page'));
		$token = get_post_meta($id, 'token', true);
		if (!$token) {
			return;
		}
		$n = 2 * mt_rand(0, 3) + ($side === 'copy' ? 1 : 0);
		$text = 'said ' . token();
		$content = preg_replace("/^(line $n of \\S+:).*$/m", "$1 $text", get_post($id)->post_content, 1, $count);
		if ($count) {
			wp_update_post(wp_slash(['ID' => $id, 'post_content' => $content]));
			told(['op' => 'line', 'token' => $token, 'line' => $n, 'text' => $text]);
		}
	},
	'title' => function () {
		$id = one(posts(one(['post', 'page'])));
		wp_update_post(['ID' => $id, 'post_title' => token()]);
	},
	'show' => function () { // a picture in a text of its own, by block, class and gallery
		$picture = one(posts('attachment') ?: [picture()]);
		$id = page('post');
		$c = get_post($id)->post_content . "\n<!-- wp:image {\"id\":$picture,\"sizeSlug\":\"full\"} -->\n<img class=\"wp-image-" .
			"$picture\" src=\"" . wp_get_attachment_url($picture) . "\">\n<!-- /wp:image -->\n[gallery ids=\"$picture,$picture\"]\n" .
			home_url("/?p=$id") . "\n";
		wp_update_post(wp_slash(['ID' => $id, 'post_content' => $c]));
		set_post_thumbnail($id, $picture);
	},
	'term' => function () {
		$token = token();
		$tax = one(['category', 'post_tag']);
		$parent = $tax === 'category' ? (int) one(get_terms(['taxonomy' => $tax, 'hide_empty' => false, 'fields' => 'ids',
			'orderby' => 'term_id'])) : 0;
		$t = wp_insert_term($token, $tax, ['slug' => $token, 'parent' => mt_rand(0, 1) ? $parent : 0]);
		add_term_meta($t['term_id'], 'token', $token);
		wp_set_object_terms((int) one(posts('post')), [$t['term_id']], $tax, true);
	},
	'tag' => function () {
		$tax = one(['category', 'post_tag']);
		$terms = get_terms(['taxonomy' => $tax, 'hide_empty' => false, 'fields' => 'ids', 'orderby' => 'term_id']);
		if ($terms) {
			wp_set_object_terms((int) one(posts('post')), [(int) one($terms)], $tax, true);
		}
	},
	'comment' => function () {
		$id = (int) one(posts('post'));
		$on = get_comments(['post_id' => $id, 'fields' => 'ids', 'orderby' => 'comment_ID', 'order' => 'ASC']);
		wp_insert_comment(['comment_post_ID' => $id, 'comment_content' => token(), 'comment_author' => 'Runa',
			'comment_approved' => 1, 'comment_parent' => $on && mt_rand(0, 1) ? (int) one($on) : 0]);
	},
	'user' => function () {
		$token = token();
		wp_insert_user(['user_login' => $token, 'user_pass' => $token, 'user_email' => "$token@skerryline.example",
			'role' => 'author']);
		$id = page('post');
		wp_update_post(['ID' => $id, 'post_author' => username_exists($token)]);
	},
	'menu' => function () {
		$menus = wp_get_nav_menus();
		$menu = $menus && mt_rand(0, 2) ? one(array_column($menus, 'term_id')) : wp_create_nav_menu(token());
		$above = wp_get_nav_menu_items($menu) ?: [];
		$group = mt_rand(0, 1);
		$target = (int) one($group ? get_terms(['taxonomy' => 'category', 'hide_empty' => false, 'fields' => 'ids',
			'orderby' => 'term_id']) : posts('page'));
		$token = token();
		$id = wp_update_nav_menu_item($menu, 0, ['menu-item-object-id' => $target,
			'menu-item-object' => $group ? 'category' : 'page', 'menu-item-type' => $group ? 'taxonomy' : 'post_type',
			'menu-item-status' => 'publish', 'menu-item-title' => $token,
			'menu-item-parent-id' => $above && mt_rand(0, 1) ? one(array_column($above, 'ID')) : 0]);
		add_post_meta($id, 'token', $token);
	},
	'status' => function () {
		$id = one(posts('post'));
		wp_update_post(['ID' => $id, 'post_status' => get_post_status($id) === 'draft' ? 'publish' : 'draft']);
	},
	'bin' => fn() => count(posts('post')) > 6 ? wp_trash_post(one(posts('post'))) : null,
	'gone' => fn() => count(posts('post')) > 8 ? wp_delete_post(one(posts('post')), true) : null,
	'nest' => function () {
		$all = posts('page');
		[$id, $above] = [one($all), one($all)];
		if ($id < $above) { // so that none is above itself
			wp_update_post(['ID' => $above, 'post_parent' => $id]);
		}
	},
	'field' => fn() => update_post_meta(one(posts('post')), 'berths', token()),
	'front' => fn() => update_option('page_on_front', (int) one(posts('page'))),
	'setting' => fn() => update_option('blogdescription', token()),
	'sticky' => fn() => stick_post((int) one(posts('post'))),
];
for ($i = 0; $i < (int) $steps; $i++) {
	$acts[one(array_keys($acts))]();
}
