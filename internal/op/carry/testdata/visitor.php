<?php
// Visits a site as people do, by the CMS's own functions: php visitor.php ROOT ADDRESS PAGE NAME STOP. It comments on a
// page, orders, and reads the page, until the file STOP is there. It says each thing that it was told is done.
[, $root, $address, $page, $name, $stop] = $argv;
$_SERVER['HTTP_HOST'] = parse_url($address, PHP_URL_HOST);
$_SERVER['REQUEST_URI'] = '/';
define('DISABLE_WP_CRON', true);
require $root . '/wp-load.php';
for ($n = 1; !file_exists($stop); $n++) {
	$text = "comment $n by $name";
	$id = wp_insert_comment(['comment_post_ID' => $page, 'comment_content' => $text, 'comment_author' => $name,
		'comment_approved' => 1]);
	echo $id ? "$text\n" : "error: no $text: $wpdb->last_error\n";
	$text = "order $n by $name";
	echo $wpdb->insert('sk_orders', ['what' => $text]) ? "$text\n" : "error: no $text: $wpdb->last_error\n";
	wp_cache_flush();
	$began = microtime(true);
	if (!get_post($page)) {
		echo "error: the page is away: $wpdb->last_error\n";
	}
	if (microtime(true) - $began > 2) {
		echo "error: a visitor waited\n";
	}
	usleep(50000);
}
