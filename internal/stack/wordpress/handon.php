<?php /* notice put here by alibi */
// The site stands elsewhere: who still comes here is handed on there, request by request. PHP 5.6 and later.
$upgrading = time();
/*LOOK*/
$alibi_on = array( 'to' => /*TO*/array(), 'port' => /*PORT*/443, 'tls' => /*TLS*/true );
// The CMS reads this file again when a request ends, which was answered then: by a notice, or with the database.
if ( 0 !== $upgrading && ! defined( 'ALIBI_NOTICED' ) && ! isset( $GLOBALS['wpdb'] ) &&
	! isset( $_SERVER['HTTP_ALIBI_HANDED_ON'] ) && isset( $_SERVER['HTTP_HOST'] ) ) {
	define( 'ALIBI_NOTICED', true );
	$alibi_name = preg_replace( '/:\d+$/', '', $_SERVER['HTTP_HOST'] );
	$alibi_body = file_get_contents( 'php://input' );
	$alibi_type = isset( $_SERVER['CONTENT_TYPE'] ) ? $_SERVER['CONTENT_TYPE'] : '';
	$alibi_whole = true; // all that was sent is there to be handed on
	if ( 0 === stripos( $alibi_type, 'multipart/form-data' ) ) { // PHP has taken it apart
		$alibi_mark = 'alibi' . md5( uniqid( '', true ) );
		$alibi_type = 'multipart/form-data; boundary=' . $alibi_mark;
		$alibi_body = '';
		$alibi_left = array();
		foreach ( $_POST as $k => $v ) {
			$alibi_left[] = array( $k, $v );
		}
		while ( $alibi_left ) {
			list( $k, $v ) = array_shift( $alibi_left );
			if ( is_array( $v ) ) {
				foreach ( array_reverse( $v, true ) as $k2 => $v2 ) {
					array_unshift( $alibi_left, array( $k . '[' . $k2 . ']', $v2 ) );
				}
				continue;
			}
			$alibi_body .= "--$alibi_mark\r\nContent-Disposition: form-data; name=\"" . addcslashes( $k, "\"\\" ) . "\"\r\n\r\n$v\r\n";
		}
		foreach ( $_FILES as $k => $f ) {
			foreach ( is_array( $f['name'] ) ? array_keys( $f['name'] ) : array( null ) as $i ) {
				$one = null === $i ? $f : array( 'name' => $f['name'][ $i ], 'type' => $f['type'][ $i ],
					'tmp_name' => $f['tmp_name'][ $i ], 'error' => $f['error'][ $i ] );
				$n = null === $i ? $k : $k . '[' . $i . ']';
				if ( ! is_string( $one['name'] ) ) {
					$alibi_whole = false;
					continue;
				}
				$alibi_whole = $alibi_whole && in_array( $one['error'], array( UPLOAD_ERR_OK, UPLOAD_ERR_NO_FILE ), true );
				$data = UPLOAD_ERR_OK === $one['error'] ? file_get_contents( $one['tmp_name'] ) : '';
				$alibi_body .= "--$alibi_mark\r\nContent-Disposition: form-data; name=\"" . addcslashes( $n, "\"\\" ) .
					'"; filename="' . addcslashes( $one['name'], "\"\\" ) . "\"\r\nContent-Type: " .
					( $one['type'] ? $one['type'] : 'application/octet-stream' ) . "\r\n\r\n$data\r\n";
			}
		}
		$alibi_body .= "--$alibi_mark--\r\n";
	}
	$alibi_head = $_SERVER['REQUEST_METHOD'] . ' ' . $_SERVER['REQUEST_URI'] . " HTTP/1.0\r\nHost: " . $_SERVER['HTTP_HOST'] .
		"\r\nConnection: close\r\nAlibi-Handed-On: 1\r\n";
	foreach ( $_SERVER as $k => $v ) {
		if ( 0 === strpos( $k, 'HTTP_' ) && is_string( $v ) && ! in_array( $k, array( 'HTTP_HOST', 'HTTP_CONNECTION',
			'HTTP_CONTENT_LENGTH', 'HTTP_CONTENT_TYPE', 'HTTP_TRANSFER_ENCODING', 'HTTP_EXPECT', 'HTTP_PROXY' ), true ) ) {
			$alibi_head .= str_replace( ' ', '-', ucwords( strtolower( str_replace( '_', ' ', substr( $k, 5 ) ) ) ) ) . ': ' .
				str_replace( array( "\r", "\n" ), '', $v ) . "\r\n";
		}
	}
	if ( isset( $_SERVER['REMOTE_ADDR'] ) && ! isset( $_SERVER['HTTP_X_FORWARDED_FOR'] ) ) {
		$alibi_head .= 'X-Forwarded-For: ' . $_SERVER['REMOTE_ADDR'] . "\r\n";
	}
	if ( isset( $_SERVER['PHP_AUTH_USER'] ) && ! isset( $_SERVER['HTTP_AUTHORIZATION'] ) ) {
		$alibi_head .= 'Authorization: Basic ' . base64_encode( $_SERVER['PHP_AUTH_USER'] . ':' .
			( isset( $_SERVER['PHP_AUTH_PW'] ) ? $_SERVER['PHP_AUTH_PW'] : '' ) ) . "\r\n";
	}
	if ( '' !== $alibi_body || 'POST' === $_SERVER['REQUEST_METHOD'] ) {
		$alibi_head .= 'Content-Length: ' . strlen( $alibi_body ) . "\r\n" . ( $alibi_type ? "Content-Type: $alibi_type\r\n" : '' );
	}
	foreach ( $alibi_whole ? $alibi_on['to'] : array() as $alibi_ip ) {
		$alibi_way = stream_context_create( array( 'ssl' => array( 'peer_name' => $alibi_name, 'SNI_enabled' => true ) ) );
		$alibi_c = @stream_socket_client( ( $alibi_on['tls'] ? 'ssl://' : 'tcp://' ) . ( strpos( $alibi_ip, ':' ) !== false ?
			"[$alibi_ip]" : $alibi_ip ) . ':' . $alibi_on['port'], $no, $text, 10, STREAM_CLIENT_CONNECT, $alibi_way );
		if ( ! $alibi_c ) {
			continue;
		}
		stream_set_timeout( $alibi_c, 60 );
		fwrite( $alibi_c, $alibi_head . "\r\n" . $alibi_body );
		$alibi_first = fgets( $alibi_c, 8192 );
		if ( ! preg_match( '#^HTTP/\d\S* (\d{3})#', (string) $alibi_first, $m ) ) {
			break; // it may have done what was asked: it is not asked again
		}
		header_remove();
		http_response_code( (int) $m[1] );
		while ( false !== ( $line = fgets( $alibi_c, 65536 ) ) && '' !== rtrim( $line, "\r\n" ) ) {
			if ( ! preg_match( '/^(connection|transfer-encoding|keep-alive|date|server):/i', $line ) ) {
				header( rtrim( $line, "\r\n" ), false );
			}
		}
		fpassthru( $alibi_c );
		exit;
	}
}
