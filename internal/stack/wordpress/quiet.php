<?php
/*
Plugin Name: Quiet rules
Description: What this copy must not do to the outside. Written by Alibi; rules are lifted by a plan of Alibi's.
*/

if ( ! defined( 'ABSPATH' ) ) {
	exit;
}

/**
 * Keeps the rules, signs in with a latchkey, and answers whether the rules hold.
 * Runs under PHP 7.0 and later.
 */
final class Alibi_Quiet {
	const SETTINGS = /*SETTINGS*/array();

	public static function keeps( $rule ) {
		return in_array( $rule, self::SETTINGS['rules'], true );
	}

	/** Says which database and address this code works with, before anything else does. */
	public static function who() {
		if ( null === self::word( 'HTTP_ALIBI_WHO', 'who' ) ) {
			return;
		}
		global $wpdb, $table_prefix;
		$out = array( 'prefix' => (string) $table_prefix, 'used_prefix' => $wpdb->base_prefix, 'home' => (string) get_option( 'home' ), 'drivers' => get_class( $wpdb ) );
		if ( defined( 'FQDB' ) ) {
			$out['file'] = FQDB;
		} else {
			$now = $wpdb->get_row( 'SELECT DATABASE() AS d, CURRENT_USER() AS u', ARRAY_A );
			$out['database'] = isset( $now['d'] ) ? $now['d'] : '';
			$out['account'] = isset( $now['u'] ) ? $now['u'] : '';
			$out['constants'] = array( DB_NAME, DB_USER, DB_HOST );
		}
		$salts = '';
		foreach ( array( 'AUTH_KEY', 'SECURE_AUTH_KEY', 'LOGGED_IN_KEY', 'NONCE_KEY', 'AUTH_SALT', 'SECURE_AUTH_SALT', 'LOGGED_IN_SALT', 'NONCE_SALT' ) as $name ) {
			$salts .= defined( $name ) ? constant( $name ) . ' ' : '';
		}
		$out['salts'] = hash( 'sha256', $salts );
		header( 'Content-Type: application/json' );
		echo '{"alibi":' . json_encode( $out ) . '}';
		exit;
	}

	public static function start() {
		self::who();
		$first = (string) getenv( 'ALIBI_FIRST' ); // has the code wait for files that are still to come
		if ( '' !== $first && is_file( $first ) ) {
			require_once $first;
		}
		set_error_handler( array( __CLASS__, 'heard' ), E_WARNING );
		if ( self::keeps( 'tasks' ) ) {
			if ( defined( 'DOING_CRON' ) && DOING_CRON ) {
				exit;
			}
			add_filter( 'pre_get_ready_cron_jobs', '__return_empty_array', PHP_INT_MAX );
		}
		add_filter( 'pre_http_request', array( __CLASS__, 'outward' ), PHP_INT_MAX, 3 );
		if ( self::keeps( 'robots' ) ) {
			add_action( 'send_headers', function () {
				header( 'X-Robots-Tag: noindex, nofollow' );
			} );
			add_filter( 'pre_option_blog_public', '__return_zero', PHP_INT_MAX );
		}
		add_action( 'init', array( __CLASS__, 'enter' ), 0 );
		add_action( 'wp_loaded', array( __CLASS__, 'probe' ), PHP_INT_MAX );
		add_action( 'wp_loaded', array( __CLASS__, 'wake' ), PHP_INT_MAX );
	}

	/** Tells whether a request to a host must not leave the copy. */
	public static function refuses( $host ) {
		$host = strtolower( (string) $host );
		$since = array_filter( explode( ' ', (string) getenv( 'ALIBI_ALLOWS' ) ) );
		foreach ( array_merge( self::SETTINGS['own'], self::SETTINGS['allow'], $since ) as $good ) {
			if ( $host === $good || substr( $host, -strlen( $good ) - 1 ) === '.' . $good ) {
				return false;
			}
		}
		if ( self::keeps( 'webhooks' ) ) {
			return true;
		}
		return isset( self::SETTINGS['known'][ $host ] ) && self::keeps( self::SETTINGS['known'][ $host ] );
	}

	public static function outward( $answer, $args, $url ) {
		if ( ! self::refuses( parse_url( $url, PHP_URL_HOST ) ) ) {
			return $answer;
		}
		self::note( 'outward', array( 'method' => isset( $args['method'] ) ? $args['method'] : 'GET', 'url' => $url ) );
		return new WP_Error( 'http_request_not_executed', 'A quiet rule of this copy keeps the request from leaving it.' );
	}

	/** Whether Alibi is trying what calls come to. */
	private static $trying = false;

	/** Writes what would have left the copy into the copy's own folder. */
	public static function note( $kind, $what ) {
		if ( self::$trying ) {
			return ''; // Alibi's own tries are none of the copy's doing
		}
		$dir = self::folder();
		if ( '' === $dir ) {
			return '';
		}
		$what['at'] = gmdate( 'Y-m-d\TH:i:s\Z' );
		$what['by'] = self::caller( '', 0 );
		$file = $dir . '/' . $kind . '-' . sprintf( '%.6f', microtime( true ) ) . '-' . mt_rand() . '.json';
		$old = umask( 0077 );
		file_put_contents( $file, json_encode( $what, JSON_PARTIAL_OUTPUT_ON_ERROR | JSON_UNESCAPED_SLASHES | JSON_UNESCAPED_UNICODE ) );
		umask( $old );
		return $file;
	}

	/** The folder of what was caught, which is made; '' if there can be none. */
	private static function folder() {
		$dir = self::SETTINGS['caught'];
		return is_dir( $dir ) || @mkdir( $dir, 0700, true ) ? $dir : '';
	}

	/** Names the plugin's or theme's file and line that the code came from which runs now; '' if it came from none. */
	private static function caller( $file, $line ) {
		$trace = array_merge( array( array( 'file' => $file, 'line' => $line ) ), debug_backtrace( DEBUG_BACKTRACE_IGNORE_ARGS, 50 ) );
		$content = rtrim( WP_CONTENT_DIR, '/' ) . '/';
		foreach ( $trace as $at ) {
			if ( isset( $at['file'] ) && __FILE__ !== $at['file'] && 0 === strpos( $at['file'], $content ) ) {
				return substr( $at['file'], strlen( $content ) ) . ':' . $at['line'];
			}
		}
		return '';
	}

	/** Hears of connections that PHP could not make, and writes down who asked for them. All else is left to PHP. */
	public static function heard( $no, $text, $file = '', $line = 0 ) {
		static $ports = array( 'http' => 80, 'https' => 443, 'ssl' => 443, 'tls' => 443, 'ftp' => 21 );
		if ( self::$trying || ! preg_match( '#(?:Unable to connect to |^[\w:]+\(|external entity ")(?:(\w+)://)?(\[[^]]+\]|[^\s/:()]+)(?::(\d+))?#i', $text, $m ) || ! preg_match( '#onnect|open stream|external entity#', $text ) ) {
			return false;
		}
		$port = isset( $m[3] ) ? (int) $m[3] : ( isset( $ports[ strtolower( $m[1] ) ] ) ? $ports[ strtolower( $m[1] ) ] : 0 );
		$by = self::caller( $file, $line );
		$dir = $port && '' !== $by ? self::folder() : '';
		if ( '' === $dir ) {
			return false;
		}
		$host = strtolower( trim( $m[2], '[]' ) );
		$note = $dir . '/asked-' . hash( 'fnv1a64', "tcp $host $port" ) . '.json';
		$all = is_file( $note ) ? (array) json_decode( (string) file_get_contents( $note ), true ) : array();
		$all += array( 'host' => $host, 'port' => $port, 'by' => array() );
		if ( count( (array) $all['by'] ) < 8 && ! in_array( $by, (array) $all['by'], true ) ) {
			$all['by'][] = $by;
			file_put_contents( $note, json_encode( $all, JSON_PARTIAL_OUTPUT_ON_ERROR | JSON_UNESCAPED_SLASHES ), LOCK_EX );
		}
		return false;
	}

	/** Gives the text of a word that Alibi signed for this copy and that is still good. */
	private static function word( $header, $purpose ) {
		$parts = isset( $_SERVER[ $header ] ) ? explode( '.', (string) $_SERVER[ $header ] ) : array();
		if ( count( $parts ) !== 3 || (int) $parts[1] < time() || ! hash_equals( hash_hmac( 'sha256', $purpose . '.' . $parts[0] . '.' . $parts[1], self::SETTINGS['secret'] ), $parts[2] ) ) {
			return null;
		}
		return hex2bin( $parts[0] );
	}

	public static function enter() {
		$login = self::word( 'HTTP_ALIBI_ENTER', 'enter' );
		if ( null === $login ) {
			return;
		}
		$user = get_user_by( 'login', $login );
		if ( ! $user ) {
			wp_die( 'This copy has no such account.', '', array( 'response' => 404 ) );
		}
		wp_set_auth_cookie( $user->ID );
		wp_redirect( user_can( $user, 'read' ) ? admin_url() : home_url( '/' ), 303 );
		exit;
	}

	/** Does what belongs to other components: what each does when it is activated, and bringing the data in line with the core. */
	public static function wake() {
		$ask = self::word( 'HTTP_ALIBI_WAKE', 'wake' );
		if ( null === $ask ) {
			return;
		}
		global $wp_version;
		$ask = json_decode( $ask, true );
		$out = array( 'php' => PHP_VERSION, 'core' => $wp_version, 'before' => (string) get_option( 'db_version' ) );
		require_once ABSPATH . 'wp-admin/includes/admin.php';
		require_once ABSPATH . 'wp-admin/includes/upgrade.php';
		foreach ( (array) $ask['on'] as $file ) {
			$wide = is_multisite() && is_plugin_active_for_network( $file );
			do_action( 'activate_plugin', $file, $wide );
			do_action( 'activate_' . $file, $wide );
			do_action( 'activated_plugin', $file, $wide );
		}
		if ( ! empty( $ask['update'] ) ) {
			wp_upgrade();
		}
		update_option( 'rewrite_rules', '' );
		wp_cache_flush();
		$out['after'] = (string) get_option( 'db_version' );
		header( 'Content-Type: application/json' );
		echo json_encode( array( 'alibi' => $out ) );
		exit;
	}

	/** Tries what the rules forbid, and says what became of it. */
	public static function probe() {
		$ask = self::word( 'HTTP_ALIBI_TRY', 'try' );
		if ( null === $ask ) {
			return;
		}
		global $wp_version;
		$ask = json_decode( $ask, true );
		$out = array(
			'php'     => PHP_VERSION,
			'core'    => $wp_version,
			'memory'  => ini_get( 'memory_limit' ),
			'runtime' => (int) ini_get( 'max_execution_time' ),
			'upload'  => ini_get( 'upload_max_filesize' ),
			'walled'  => @is_dir( '/run' ) && @file_exists( '/run/alibi-wall' ),
			'debug'   => defined( 'WP_DEBUG' ) && WP_DEBUG,
		);
		if ( self::keeps( 'mail' ) ) {
			$before = count( (array) glob( self::SETTINGS['caught'] . '/mail-*' ) );
			wp_mail( 'nobody@probe.invalid', 'Alibi tries the mail', 'This must be caught.' );
			$out['mail'] = count( (array) glob( self::SETTINGS['caught'] . '/mail-*' ) ) === $before + 1;
			if ( $out['mail'] ) {
				$all = glob( self::SETTINGS['caught'] . '/mail-*' );
				sort( $all );
				unlink( end( $all ) );
			}
		}
		if ( self::keeps( 'tasks' ) ) {
			$out['tasks'] = defined( 'DISABLE_WP_CRON' ) && DISABLE_WP_CRON && ( ! function_exists( 'wp_get_ready_cron_jobs' ) || array() === wp_get_ready_cron_jobs() );
		}
		self::$trying = true;
		foreach ( array( 'webhooks', 'payments', 'statistics' ) as $rule ) {
			if ( self::keeps( $rule ) ) {
				$out[ $rule ] = true;
				$hosts = array_keys( self::SETTINGS['known'], $rule, true );
				if ( 'webhooks' === $rule ) {
					$hosts[] = 'probe.invalid';
				}
				foreach ( $hosts as $host ) {
					$answer = ( new WP_Http() )->get( 'http://' . $host . '/', array( 'timeout' => 1 ) );
					$out[ $rule ] = $out[ $rule ] && is_wp_error( $answer ) && 'http_request_not_executed' === $answer->get_error_code();
				}
			}
		}
		self::$trying = false;
		if ( self::keeps( 'robots' ) ) {
			$out['robots'] = ! get_option( 'blog_public' );
		}
		if ( is_array( $ask ) ) {
			$out['tries'] = ( new Alibi_Tries() )->all( $ask );
		}
		header( 'Content-Type: application/json' );
		echo json_encode( $out, JSON_PARTIAL_OUTPUT_ON_ERROR );
		exit;
	}
}

Alibi_Quiet::start();

if ( Alibi_Quiet::keeps( 'mail' ) && ! function_exists( 'wp_mail' ) ) {
	function wp_mail( $to, $subject, $message, $headers = '', $attachments = array() ) {
		$mail = apply_filters( 'wp_mail', compact( 'to', 'subject', 'message', 'headers', 'attachments' ) );
		if ( is_array( $mail ) ) {
			$mail['attachments'] = array_map( 'basename', (array) $mail['attachments'] );
			Alibi_Quiet::note( 'mail', $mail );
		}
		return true;
	}
}
