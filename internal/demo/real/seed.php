<?php
// Sets up a WordPress site with made-up content: seed.php ROOT SPEC.json PHASE
// PHASE install makes the tables; fill makes the content, after the
// configuration of a network was completed.
// The tables are made by the CMS itself; nothing is sent anywhere.
error_reporting(E_ALL & ~E_DEPRECATED & ~E_NOTICE & ~E_WARNING);
list(, $root, $file, $phase) = $argv;
$spec = json_decode(file_get_contents($file), true);
$url = parse_url($spec['url']);
$_SERVER['HTTP_HOST'] = $url['host'] . (isset($url['port']) ? ':' . $url['port'] : '');
$_SERVER['SERVER_NAME'] = $url['host'];
$_SERVER['REQUEST_URI'] = '/';
$_SERVER['REMOTE_ADDR'] = '127.0.0.1';
$_SERVER['SERVER_PROTOCOL'] = 'HTTP/1.1';
$_SERVER['REQUEST_METHOD'] = 'GET';
if (isset($url['scheme']) && $url['scheme'] === 'https') {
	$_SERVER['HTTPS'] = 'on';
}
foreach (array('pre_wp_mail' => true, 'pre_http_request' => array('response' => array('code' => 503, 'message' => 'no'), 'body' => '', 'headers' => array(), 'cookies' => array())) as $hook => $value) {
	$GLOBALS['wp_filter'][$hook][1]['seed'] = array('function' => function () use ($value) { return $value; }, 'accepted_args' => 0);
}
if ($phase === 'install') {
	define('WP_INSTALLING', true);
}
require $root . '/wp-load.php';
require_once ABSPATH . 'wp-admin/includes/upgrade.php';
mt_srand($spec['seed']);

if ($phase === 'install') {
	wp_install($spec['title'], 'runa', 'runa@skerryline.example', true, '', 'made-up-password');
	if (!empty($spec['network'])) {
		network($spec);
	}
} else {
	seed_site($spec, '');
	foreach (isset($spec['network']) ? $spec['network'] : array() as $sub) {
		sub_site($spec, $sub);
	}
}
echo "done\n";

function network($spec) {
	global $wpdb, $root;
	$url = parse_url($spec['url']);
	$host = $url['host'] . (isset($url['port']) ? ':' . $url['port'] : '');
	foreach ($wpdb->tables('ms_global') as $t => $name) {
		$wpdb->$t = $name;
	}
	install_network();
	populate_network(1, $host, 'runa@skerryline.example', $spec['title'] . ' network', '/', !empty($spec['sub_domains']));
	$wpdb->set_blog_id(1);
}

function sub_site($spec, $sub) {
	$host = parse_url($spec['url'], PHP_URL_HOST);
	$id = !empty($spec['sub_domains']) ? wpmu_create_blog($sub['name'] . '.' . $host, '/', $sub['title'], 1) : wpmu_create_blog($host, '/' . $sub['name'] . '/', $sub['title'], 1);
	if (is_wp_error($id)) {
		fwrite(STDERR, $id->get_error_message() . "\n");
		exit(1);
	}
	switch_to_blog($id);
	seed_site(array_merge($spec, $sub), ' ' . $sub['name']);
	restore_current_blog();
}

function seed_site($spec, $suffix) {
	global $wpdb;
	$url = untrailingslashit(get_option('home'));
	if (empty($spec['blocks'])) {
		switch_theme('skerry');
	}
	update_option('blogdescription', $spec['tagline']);
	update_option('permalink_structure', '/%postname%/');
	update_option('skerry_plain', $url . '/boats/');
	update_option('skerry_layout', array('hero' => $url . '/hero.jpg', 'nested' => array('link' => $url, 'path' => ABSPATH . 'wp-content/uploads', 'n' => 7, 'yes' => true, 'f' => 1.5, 'null' => null), 'städte' => 'Überfahrt ' . $url . '/ü'));
	$o = new stdClass();
	$o->url = $url;
	$o->inner = serialize(array('u' => $url . '/inner', 'list' => array(1, 2, $url)));
	update_option('skerry_object', $o);
	update_option('skerry_json', wp_json_encode(array('url' => $url . '/a/b', 'escaped' => 'x')));
	update_option('skerry_base64', base64_encode(serialize(array('deep' => $url . '/coded/'))));
	update_option('skerry_encoded', 'https://maps.example/?from=' . rawurlencode($url . '/quay?x=1'));
	update_option('skerry_foreign', array('https://not-' . parse_url($url, PHP_URL_HOST) . '/x', 'mail@' . parse_url($url, PHP_URL_HOST)));
	$wpdb->insert($wpdb->options, array('option_name' => 'skerry_broken', 'option_value' => 's:5:"' . $url . '";', 'autoload' => 'no'));
	update_option('bell_mailer_smtp', 'smtps://relay.bellpost.example:465');
	update_option('quay_visits_counter', 'https://count.wavelog.example/hit');
	update_option('coin_slot_gateway', 'https://pay.coinslot.example/v2');
	$users = array(1);
	foreach (array('mik' => 'editor', 'tova' => 'author', 'ivo' => 'subscriber') as $name => $role) {
		$id = username_exists($name);
		$users[] = $id ? $id : wp_insert_user(array('user_login' => $name, 'user_pass' => 'made-up-' . $name, 'user_email' => $name . '@skerryline.example', 'role' => $role, 'display_name' => ucfirst($name)));
	}
	$cats = array();
	foreach (array('Boats', 'Islands', 'Weather') as $c) {
		$t = wp_insert_term($c, 'category');
		$cats[] = is_wp_error($t) ? 1 : $t['term_id'];
	}
	$media = array();
	for ($i = 0; $i < $spec['pictures']; $i++) {
		$media[] = picture($i, $url);
	}
	$words = explode(' ', 'harbour tide ferry lamp rope gull quay fog island bell mast crew buoy deck keel wake salt storm slip anchor');
	$ids = array();
	for ($i = 0; $i < $spec['posts']; $i++) {
		$text = '';
		for ($p = 0; $p < 3; $p++) {
			$line = array();
			for ($w = 0; $w < 30; $w++) {
				$line[] = $words[mt_rand(0, count($words) - 1)];
			}
			$text .= "<!-- wp:paragraph -->\n<p>" . ucfirst(implode(' ', $line)) . '. <a href="' . $url . '/post-' . mt_rand(0, max(1, $i)) . '/">more</a></p>' . "\n<!-- /wp:paragraph -->\n";
		}
		if ($media) {
			$m = $media[$i % count($media)];
			$text .= '<!-- wp:image {"id":' . $m . ',"sizeSlug":"large"} --><figure class="wp-block-image"><img src="' . wp_get_attachment_url($m) . '" class="wp-image-' . $m . '"/></figure><!-- /wp:image -->';
		}
		$id = wp_insert_post(wp_slash(array('post_title' => 'Post ' . $i, 'post_name' => 'post-' . $i, 'post_content' => $text, 'post_status' => $i % 17 === 16 ? 'draft' : 'publish', 'post_author' => $users[$i % count($users)], 'post_category' => array($cats[$i % count($cats)]), 'post_date' => gmdate('Y-m-d H:i:s', 1750000000 + $i * 3600))));
		$ids[] = $id;
		if ($media) {
			update_post_meta($id, '_thumbnail_id', $media[$i % count($media)]);
		}
		add_post_meta($id, 'skerry_box', array('link' => $url . '/box/' . $i, 'ids' => $media));
		if ($i % 5 === 0) {
			wp_insert_comment(array('comment_post_ID' => $id, 'comment_author' => 'Passenger', 'comment_author_email' => 'p@passengers.example', 'comment_content' => 'See ' . $url . '/boats/', 'comment_approved' => 1));
		}
	}
	$parent = 0;
	for ($i = 0; $i < 4; $i++) {
		$parent = wp_insert_post(array('post_type' => 'page', 'post_title' => 'Page ' . $i, 'post_name' => 'page-' . $i, 'post_content' => '<p>About the boats. <a href="' . $url . '/post-0/">First</a></p>', 'post_status' => 'publish', 'post_parent' => $parent));
	}
	$menu = wp_create_nav_menu('Main' . $suffix);
	if (!is_wp_error($menu)) {
		wp_update_nav_menu_item($menu, 0, array('menu-item-title' => 'Home', 'menu-item-url' => $url . '/', 'menu-item-status' => 'publish', 'menu-item-type' => 'custom'));
		wp_update_nav_menu_item($menu, 0, array('menu-item-title' => 'Page', 'menu-item-object' => 'page', 'menu-item-object-id' => $parent, 'menu-item-type' => 'post_type', 'menu-item-status' => 'publish'));
		set_theme_mod('nav_menu_locations', array('primary' => $menu));
	}
	update_option('sidebars_widgets', array('wp_inactive_widgets' => array(), 'sidebar-1' => array('block-2', 'nav_menu-3'), 'array_version' => 3));
	update_option('widget_nav_menu', array(3 => array('title' => 'Links', 'nav_menu' => is_wp_error($menu) ? 0 : $menu), '_multiwidget' => 1));
	$wpdb->query("CREATE TABLE IF NOT EXISTS {$wpdb->prefix}skerry_sailings (`from` VARCHAR(40), `to` VARCHAR(40), note TEXT, raw VARBINARY(300), at TIMESTAMP NULL DEFAULT CURRENT_TIMESTAMP ON UPDATE CURRENT_TIMESTAMP)");
	for ($i = 0; $i < 5; $i++) {
		$wpdb->query($wpdb->prepare("INSERT INTO {$wpdb->prefix}skerry_sailings (`from`, `to`, note, raw, at) VALUES (%s, 'Skerry', %s, %s, '2026-01-02 03:04:05')", 'Pier ' . ($i % 3), $url . '/sailing/' . ($i % 3), serialize(array($url))));
	}
	activate();
	if (!wp_next_scheduled('tide_table_fetch')) {
		wp_schedule_event(time() - 60, 'hourly', 'tide_table_fetch');
	}
}

function activate() {
	update_option('active_plugins', array('tide-table/tide-table.php'));
}

function picture($i, $url) {
	$dir = wp_upload_dir('2026/0' . (1 + $i % 6));
	$name = 'boat-' . $i . '.png';
	$im = imagecreatetruecolor(160, 90);
	for ($k = 0; $k < 40; $k++) {
		imagefilledrectangle($im, mt_rand(0, 150), mt_rand(0, 80), mt_rand(0, 160), mt_rand(0, 90), imagecolorallocate($im, mt_rand(0, 255), mt_rand(0, 255), mt_rand(0, 255)));
	}
	imagepng($im, $dir['path'] . '/' . $name);
	$id = wp_insert_attachment(array('post_title' => 'Boat ' . $i, 'post_mime_type' => 'image/png', 'guid' => $dir['url'] . '/' . $name, 'post_status' => 'inherit'), $dir['path'] . '/' . $name);
	update_post_meta($id, '_wp_attached_file', ltrim($dir['subdir'], '/') . '/' . $name);
	update_post_meta($id, '_wp_attachment_metadata', array('width' => 160, 'height' => 90, 'file' => ltrim($dir['subdir'], '/') . '/' . $name, 'sizes' => array()));
	return $id;
}
