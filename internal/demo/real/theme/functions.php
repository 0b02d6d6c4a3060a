<?php
add_action( 'after_setup_theme', function () {
	add_theme_support( 'title-tag' );
	add_theme_support( 'post-thumbnails' );
	register_nav_menus( array( 'primary' => 'Main menu' ) );
} );
add_action( 'widgets_init', function () {
	register_sidebar( array( 'id' => 'sidebar-1', 'name' => 'Beside the text' ) );
} );
add_action( 'wp_enqueue_scripts', function () {
	wp_enqueue_style( 'skerry', get_stylesheet_uri(), array(), '1.2' );
} );
// It has styles of its own: those of blocks are not made, and not kept for a minute either.
remove_action( 'wp_enqueue_scripts', 'wp_enqueue_global_styles' );
remove_action( 'wp_footer', 'wp_enqueue_global_styles', 1 );
remove_action( 'wp_body_open', 'wp_global_styles_render_svg_filters' );
