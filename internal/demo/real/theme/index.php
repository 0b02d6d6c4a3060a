<!DOCTYPE html>
<html <?php language_attributes(); ?>>
<head>
<meta charset="<?php bloginfo( 'charset' ); ?>">
<?php wp_head(); ?>
</head>
<body <?php body_class(); ?>>
<?php wp_body_open(); ?>
<header><a href="<?php echo esc_url( home_url( '/' ) ); ?>"><?php bloginfo( 'name' ); ?></a> <?php bloginfo( 'description' ); ?></header>
<nav><?php wp_nav_menu( array( 'theme_location' => 'primary' ) ); ?></nav>
<main>
<?php if ( ! have_posts() ) : ?>
<p>There is nothing here.</p>
<?php endif; ?>
<?php while ( have_posts() ) : the_post(); ?>
<article <?php post_class(); ?>>
<h2><a href="<?php the_permalink(); ?>"><?php the_title(); ?></a></h2>
<?php the_post_thumbnail(); ?>
<?php the_content(); ?>
<?php if ( is_singular() ) { comments_template(); } ?>
</article>
<?php endwhile; ?>
</main>
<aside><?php dynamic_sidebar( 'sidebar-1' ); ?></aside>
<?php wp_footer(); ?>
</body>
</html>
