<?php
/*
Plugin Name: Tide Table
Version: 2.4.1
Requires at least: 5.0
Requires PHP: 7.2
Description: Fetches made-up tides every hour, tells a made-up service, and mails the harbour master.
*/

add_action( 'tide_table_fetch', 'tide_table_fetch' );

function tide_table_fetch() {
	update_option( 'tide_table_fetched', get_option( 'tide_table_fetched', 0 ) + 1 );
	( new WP_Http() )->post( 'https://hooks.stowage.example/tides', array( 'body' => array( 'site' => home_url() ) ) );
	wp_mail( 'master@harbour.example', 'Tides', 'High water at ' . home_url( '/tides/' ) );
}

add_action( 'init', function () {
	if ( isset( $_GET['tide-now'] ) ) {
		do_action( 'tide_table_fetch' );
		mail( 'master@harbour.example', 'Tides by hand', 'Sent without the CMS' );
		header( 'Content-Type: text/plain' );
		echo 'fetched ' . get_option( 'tide_table_fetched' );
		exit;
	}
} );

add_action( 'wp_footer', function () {
	echo '<p class="tide">High water at <a href="' . esc_url( home_url( '/tides/' ) ) . '">the quay</a></p>';
} );
