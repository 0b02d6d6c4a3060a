<?php
// Says what a configuration sets: evaluate.php FILE ROOT HOST. Runs under PHP 7.0 and later.
list( , $alibi_file, $alibi_root, $alibi_host ) = $argv;
$_SERVER['HTTP_HOST']       = $alibi_host;
$_SERVER['SERVER_NAME']     = $alibi_host;
$_SERVER['REQUEST_URI']     = '/';
$_SERVER['REQUEST_METHOD']  = 'GET';
$_SERVER['SCRIPT_NAME']     = '/index.php';
$_SERVER['SCRIPT_FILENAME'] = $alibi_root . '/index.php';
$_SERVER['DOCUMENT_ROOT']   = $alibi_root;
$_SERVER['REMOTE_ADDR']     = '127.0.0.1';
$_SERVER['SERVER_PORT']     = '443';
$_SERVER['HTTPS']           = 'on';
unset( $_SERVER['argv'], $_SERVER['argc'] );
define( 'ABSPATH', $alibi_root . '/' );
register_shutdown_function( function () {
	$all   = get_defined_constants( true );
	$last  = error_get_last();
	$fatal = $last && ( $last['type'] & ( E_ERROR | E_PARSE | E_CORE_ERROR | E_COMPILE_ERROR ) );
	$out   = array(
		'constants' => array_filter( isset( $all['user'] ) ? $all['user'] : array(), 'is_scalar' ),
		'prefix'    => isset( $GLOBALS['table_prefix'] ) && is_string( $GLOBALS['table_prefix'] ) ? $GLOBALS['table_prefix'] : null,
		'error'     => $fatal ? strtok( $last['message'], "\n" ) : '',
	);
	echo "\nalibi:" . base64_encode( json_encode( $out, JSON_PARTIAL_OUTPUT_ON_ERROR ) );
} );
include $alibi_file;
