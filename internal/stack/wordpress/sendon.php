<?php /* notice put here by alibi */
// The site has another address now: who still comes by this one is sent there. PHP 5.6 and later.
$upgrading = time();
/*LOOK*/
$alibi_to = /*TO*/'';
$alibi_from = /*FROM*/'';
// The CMS reads this file again when a request ends, which was answered then.
if ( 0 !== $upgrading && ! defined( 'ALIBI_NOTICED' ) && ! isset( $GLOBALS['wpdb'] ) && isset( $_SERVER['REQUEST_URI'] ) ) {
	define( 'ALIBI_NOTICED', true );
	$alibi_rest = $_SERVER['REQUEST_URI'];
	if ( '' !== $alibi_from && 0 === strpos( $alibi_rest . '/', $alibi_from . '/' ) ) {
		$alibi_rest = substr( $alibi_rest, strlen( $alibi_from ) );
	}
	header( 'Location: ' . $alibi_to . '/' . ltrim( $alibi_rest, '/' ), true, 307 );
	exit;
}
