<?php
if ( have_comments() ) {
	echo '<ol>';
	wp_list_comments();
	echo '</ol>';
}
comment_form();
