<?php
/* Has the code of this copy wait for files that are still coming to it. Written by Alibi; it goes when all are there. */

/**
 * Stands before PHP's own access to files: what is still to come is asked for, and waited for, when it is looked at.
 * Runs under PHP 7.0 and later.
 */
final class Alibi_Awaited {
	const ROOT = /*ROOT*/'';

	public $context;
	private $file;
	private $names;

	public static function start() {
		stream_wrapper_unregister( 'file' );
		stream_wrapper_register( 'file', __CLASS__ );
	}

	/** Does something with PHP's own access. */
	private static function plain( $do ) {
		@stream_wrapper_restore( 'file' );
		try {
			return $do();
		} finally {
			self::start();
		}
	}

	/** The path of a file below the copy's root; '' where it is elsewhere. */
	private static function below( $path ) {
		if ( 0 === strncmp( $path, 'file://', 7 ) ) {
			$path = substr( $path, 7 );
		}
		if ( '' === $path || '/' !== $path[0] ) {
			$path = getcwd() . '/' . $path;
		}
		$out = array();
		foreach ( explode( '/', $path ) as $part ) {
			if ( '..' === $part ) {
				array_pop( $out );
			} elseif ( '' !== $part && '.' !== $part ) {
				$out[] = $part;
			}
		}
		$path = '/' . implode( '/', $out );
		foreach ( array_unique( array( self::ROOT, (string) realpath( self::ROOT ) ) ) as $root ) {
			if ( '' !== $root && 0 === strncmp( $path . '/', $root . '/', strlen( $root ) + 1 ) ) {
				return (string) substr( $path, strlen( $root ) + 1 );
			}
		}
		return '';
	}

	/** Asks for something by a line and gives what is answered. */
	private static function ask( $line ) {
		try { // where a class of PHP's is at work, warnings are exceptions
			$s = @stream_socket_client( 'unix://' . __DIR__ . '/awaited.sock', $no, $text, 2 );
			if ( ! $s ) {
				return '';
			}
			stream_set_timeout( $s, 60 );
			fwrite( $s, $line . "\n" );
			$out = (string) stream_get_contents( $s );
			fclose( $s );
			return $out;
		} catch ( \Exception $e ) {
			return '';
		}
	}

	/** Waits until a file is there, if it is to come. */
	private static function await( $path ) {
		static $asked = array();
		if ( '.php' === substr( $path, -4 ) || isset( $asked[ $path ] ) ) {
			return;
		}
		$name = self::below( $path );
		if ( '' === $name || false === strpos( basename( $name ), '.' ) ) {
			return;
		}
		if ( file_exists( $path ) || is_link( $path ) ) {
			return;
		}
		$asked[ $path ] = true;
		self::ask( 'file ' . rawurlencode( $name ) );
		clearstatcache( true, $path );
	}

	public function stream_open( $path, $mode, $options, &$opened ) {
		return self::plain( function () use ( $path, $mode, $options, &$opened ) {
			self::await( $path );
			$include = 0 !== ( $options & STREAM_USE_PATH );
			$quiet = 0 === ( $options & STREAM_REPORT_ERRORS );
			if ( is_resource( $this->context ) ) {
				$this->file = $quiet ? @fopen( $path, $mode, $include, $this->context ) : fopen( $path, $mode, $include, $this->context );
			} else {
				$this->file = $quiet ? @fopen( $path, $mode, $include ) : fopen( $path, $mode, $include );
			}
			if ( $this->file && $include ) {
				$meta = stream_get_meta_data( $this->file );
				$opened = $meta['uri'];
			}
			return false !== $this->file;
		} );
	}

	public function url_stat( $path, $flags ) {
		return self::plain( function () use ( $path, $flags ) {
			self::await( $path );
			$link = 0 !== ( $flags & STREAM_URL_STAT_LINK );
			if ( 0 !== ( $flags & STREAM_URL_STAT_QUIET ) && ! file_exists( $path ) && ! ( $link && is_link( $path ) ) ) {
				return false; // without a warning
			}
			return $link ? lstat( $path ) : stat( $path );
		} );
	}

	public function stream_metadata( $path, $option, $value ) {
		return self::plain( function () use ( $path, $option, $value ) {
			self::await( $path );
			switch ( $option ) {
				case STREAM_META_TOUCH:
					return $value ? touch( $path, $value[0], isset( $value[1] ) ? $value[1] : $value[0] ) : touch( $path );
				case STREAM_META_OWNER:
				case STREAM_META_OWNER_NAME:
					return chown( $path, $value );
				case STREAM_META_GROUP:
				case STREAM_META_GROUP_NAME:
					return chgrp( $path, $value );
				case STREAM_META_ACCESS:
					return chmod( $path, $value );
			}
			return false;
		} );
	}

	public function unlink( $path ) {
		return self::plain( function () use ( $path ) {
			self::await( $path );
			return is_resource( $this->context ) ? unlink( $path, $this->context ) : unlink( $path );
		} );
	}

	public function rename( $from, $to ) {
		return self::plain( function () use ( $from, $to ) {
			self::await( $from );
			self::await( $to );
			return is_resource( $this->context ) ? rename( $from, $to, $this->context ) : rename( $from, $to );
		} );
	}

	public function mkdir( $path, $mode, $options ) {
		return self::plain( function () use ( $path, $mode, $options ) {
			return mkdir( $path, $mode, 0 !== ( $options & STREAM_MKDIR_RECURSIVE ) );
		} );
	}

	public function rmdir( $path, $options ) {
		return self::plain( function () use ( $path ) {
			return rmdir( $path );
		} );
	}

	public function dir_opendir( $path, $options ) {
		return self::plain( function () use ( $path ) {
			$dir = is_resource( $this->context ) ? opendir( $path, $this->context ) : opendir( $path );
			if ( ! $dir ) {
				return false;
			}
			$this->names = array();
			while ( false !== ( $name = readdir( $dir ) ) ) {
				$this->names[] = $name;
			}
			closedir( $dir );
			$below = self::below( $path );
			if ( '' !== $below ) {
				$coming = array_filter( explode( "\n", self::ask( 'folder ' . rawurlencode( $below ) ) ), 'strlen' );
				$this->names = array_values( array_unique( array_merge( $this->names, array_map( 'rawurldecode', $coming ) ) ) );
			}
			return true;
		} );
	}

	public function dir_readdir() {
		$name = current( $this->names );
		next( $this->names );
		return $name;
	}

	public function dir_rewinddir() {
		reset( $this->names );
		return true;
	}

	public function dir_closedir() {
		$this->names = null;
		return true;
	}

	public function stream_read( $count ) {
		return fread( $this->file, $count );
	}

	public function stream_write( $data ) {
		return fwrite( $this->file, $data );
	}

	public function stream_eof() {
		return feof( $this->file );
	}

	public function stream_tell() {
		return ftell( $this->file );
	}

	public function stream_seek( $offset, $whence ) {
		return 0 === fseek( $this->file, $offset, $whence );
	}

	public function stream_stat() {
		return fstat( $this->file );
	}

	public function stream_flush() {
		return fflush( $this->file );
	}

	public function stream_truncate( $size ) {
		return ftruncate( $this->file, $size );
	}

	public function stream_lock( $operation ) {
		return 0 === $operation ? true : flock( $this->file, $operation );
	}

	public function stream_set_option( $option, $one, $two ) {
		return false;
	}

	public function stream_cast( $as ) {
		return $this->file;
	}

	public function stream_close() {
		fclose( $this->file );
	}
}

if ( file_exists( __DIR__ . '/awaited.sock' ) ) {
	Alibi_Awaited::start();
}
