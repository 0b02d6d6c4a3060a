
/**
 * Tries to leave the copy in the ways that its code could, and says for each what came of it.
 * Runs under PHP 7.0 and later; every try ends at once, or within a tenth of a second.
 */
final class Alibi_Tries {
	private $out = array();

	/** A try: `by` says what stopped it; where it is empty, the way is open. */
	private function add( $what, $to, $by ) {
		$this->out[] = array( 'what' => $what, 'to' => $to, 'open' => '' === $by, 'by' => $by );
	}

	/** Tells why a connection could not be made, or that it could. */
	private function call( $what, $to, $seconds = 0.1 ) {
		$c = @stream_socket_client( $to, $no, $text, $seconds );
		if ( ! $c ) {
			$this->add( $what, $to, '' !== (string) $text ? $text : 'nobody is there' );
			return;
		}
		stream_set_timeout( $c, 0, 100000 );
		if ( 0 === strpos( $to, 'udp:' ) ) {
			@fwrite( $c, 'x' );
			$said = @fread( $c, 10 );
			$this->add( $what, $to, false === $said || '' === $said ? 'nobody answers' : '' );
		} else {
			$said = @fread( $c, 200 );
			$meta = stream_get_meta_data( $c );
			$this->add( $what, $to, ( false === $said || '' === $said ) && empty( $meta['timed_out'] ) ? 'it is closed at once' : '' );
		}
		fclose( $c );
	}

	/** Tells what an account of the database server is told that is not the copy's. */
	private function database( $server, $account ) {
		if ( ! function_exists( 'mysqli_init' ) ) {
			return;
		}
		mysqli_report( MYSQLI_REPORT_OFF );
		$port = null;
		$socket = null;
		$host = $server;
		if ( preg_match( '#^([^:/]*):?(/.*)$#', $server, $m ) ) {
			list( , $host, $socket ) = $m;
			$host = '' === $host ? 'localhost' : $host;
		} elseif ( preg_match( '#^(.+):(\d+)$#', $server, $m ) ) {
			$host = trim( $m[1], '[]' );
			$port = (int) $m[2];
		}
		$db = mysqli_init();
		mysqli_options( $db, MYSQLI_OPT_CONNECT_TIMEOUT, 1 );
		$in = @mysqli_real_connect( $db, $host, $account, '', '', $port, $socket );
		$said = (string) mysqli_connect_error();
		$by = '';
		if ( ! $in ) {
			// A server that asks for the password would let in who knows it.
			$by = false !== strpos( $said, 'wall' ) || false === stripos( $said, 'denied' ) ? $said : '';
		}
		$this->add( 'the database server as another account', $account . ' at ' . $server, $by );
	}

	/** Tells what the database server gives to the copy's own account beyond its database. */
	private function server( $own ) {
		global $wpdb;
		if ( defined( 'FQDB' ) ) {
			return;
		}
		$loud = $wpdb->suppress_errors( true );
		$more = array_diff( $wpdb->get_col( 'SHOW DATABASES' ), array_merge( $own, array( DB_NAME, 'information_schema', 'performance_schema', 'test' ) ) ); // "test" is everybody's
		$this->add( 'databases of others', implode( ', ', array_slice( $more, 0, 5 ) ) . ( $more ? '' : 'SHOW DATABASES' ), $more ? '' : 'it sees its own alone' );
		$rights = array_filter( $wpdb->get_col( 'SHOW GRANTS' ), function ( $grant ) {
			return false !== strpos( $grant, ' ON *.* ' ) && 0 !== strpos( $grant, 'GRANT USAGE ON ' );
		} );
		$this->add( 'rights over the database server', 'SHOW GRANTS', $rights ? '' : 'its account has none' );
		$this->add( 'a file by the database server', '/etc/passwd', null === $wpdb->get_var( "SELECT LOAD_FILE('/etc/passwd')" ) ? 'the server gives none' : '' );
		$others = (int) $wpdb->get_var( "SELECT COUNT(*) FROM information_schema.PROCESSLIST WHERE USER <> SUBSTRING_INDEX(CURRENT_USER(), '@', 1)" );
		$this->add( 'what others ask the database server', 'PROCESSLIST', $others ? '' : 'it sees its own alone' );
		$this->add( 'accounts of the database server', 'mysql.user', null === $wpdb->get_var( 'SELECT COUNT(*) FROM mysql.user' ) ? 'denied' : '' );
		$wpdb->suppress_errors( $loud );
	}

	private function program( $command ) {
		if ( ! function_exists( 'exec' ) || false !== strpos( ',' . ini_get( 'disable_functions' ) . ',', ',exec,' ) ) {
			return null;
		}
		@exec( $command . ' 2>/dev/null', $lines, $code );
		return array( $code, implode( "\n", $lines ) );
	}

	/** Tries everything; $ask names what must not be reached. */
	public function all( $ask ) {
		$this->call( 'a connection by address', 'tcp://192.0.2.77:443' );
		$this->call( 'a connection by name', 'tcp://probe.invalid:443' );
		$this->call( 'a connection over IPv6', 'tcp://[2001:db8::77]:443' );
		$this->call( 'a datagram', 'udp://192.0.2.77:123' );
		foreach ( $ask['ports'] as $port ) {
			$this->call( 'a port of this machine', 'tcp://127.0.0.1:' . $port );
		}
		foreach ( $ask['sockets'] as $socket ) {
			$this->call( 'a socket of this machine', 'unix://' . $socket );
		}
		if ( function_exists( 'curl_init' ) ) {
			$c = curl_init( 'http://192.0.2.77/' );
			curl_setopt_array( $c, array( CURLOPT_RETURNTRANSFER => true, CURLOPT_CONNECTTIMEOUT_MS => 100, CURLOPT_TIMEOUT_MS => 100 ) );
			$got = curl_exec( $c );
			$this->add( "PHP's curl", 'http://192.0.2.77/', false === $got ? (string) curl_error( $c ) : '' );
		}
		if ( ini_get( 'allow_url_fopen' ) ) {
			$got = @file_get_contents( 'http://192.0.2.77/', false, stream_context_create( array( 'http' => array( 'timeout' => 0.1 ) ) ) );
			$this->add( 'reading an address as a file', 'http://192.0.2.77/', false === $got ? 'it could not be read' : '' );
		}
		foreach ( $ask['files'] as $file ) {
			$this->add( 'reading a file', $file, @is_readable( $file ) ? '' : 'it is not there' );
			$dir = dirname( $file );
			$this->add( 'writing into a folder', $dir, @is_writable( $dir ) ? '' : ( @is_dir( $dir ) ? 'it can be read only' : 'it is not there' ) );
		}
		foreach ( array( '/usr/bin', '/etc' ) as $dir ) {
			$this->add( 'writing into a folder', $dir, @is_writable( $dir ) ? '' : 'it can be read only' );
		}
		if ( '' !== $ask['account'] ) {
			$this->database( $ask['server'], $ask['account'] );
		}
		$this->server( isset( $ask['own'] ) ? (array) $ask['own'] : array() );
		$status = (string) @file_get_contents( '/proc/self/status' );
		$rights = preg_match( '/^CapEff:\s*0+$/m', $status ) && preg_match( '/^NoNewPrivs:\s*1$/m', $status );
		$this->add( 'rights over the machine', 'root, or a way to it', $rights ? 'it has none, and can get none' : '' );
		$ran = $this->program( 'cat /etc/shadow; cat ' . escapeshellarg( isset( $ask['files'][0] ) ? $ask['files'][0] : '/etc/shadow' ) );
		if ( null === $ran ) {
			$this->add( 'a program', 'exec', 'PHP has it turned off' );
		} else {
			$this->add( 'a program that reads files', 'exec', '' === $ran[1] ? 'it finds nothing' : '' );
			$left = glob( '/proc/[0-9]*' );
			$this->add( 'processes of this machine', '/proc', is_array( $left ) && count( $left ) < 64 && ! @is_readable( '/proc/1/root/etc/shadow' ) ? 'only its own are seen' : '' );
		}
		return $this->out;
	}
}
