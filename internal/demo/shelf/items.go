package shelf

import (
	"fmt"
	"strings"

	"alibi/internal/site"
)

// plugin makes an item whose one file has the code.
func plugin(slug, version, text, code string, more ...func(*Item)) Item {
	i := Item{
		Kind:         site.Plugin,
		Slug:         slug,
		Name:         title(slug),
		Version:      version,
		Text:         text,
		RequiresCore: "5.0",
		RequiresPHP:  "7.0",
	}
	for _, m := range more {
		m(&i)
	}
	head := fmt.Sprintf(
		"<?php\n/*\nPlugin Name: %s\nVersion: %s\nDescription: %s\nAuthor: Stowage Works\nRequires at least: "+
			"%s\nRequires PHP: %s\n",
		i.Name,
		version,
		text,
		i.RequiresCore,
		i.RequiresPHP,
	)
	if len(i.Requires) > 0 {
		head += "Requires Plugins: " + strings.Join(i.Requires, ", ") + "\n"
	}
	i.Files = map[string]string{
		slug + ".php": head + "*/\n" + code,
		"readme.txt":  "=== " + i.Name + " ===\nStable tag: " + version + "\n\n" + text + "\n",
	}
	return i
}

func title(slug string) string {
	words := strings.Split(slug, "-")
	for i, w := range words {
		words[i] = strings.ToUpper(w[:1]) + w[1:]
	}
	return strings.Join(words, " ")
}

func asksPHP(v string) func(*Item)           { return func(i *Item) { i.RequiresPHP = v } }
func asksPlugins(list ...string) func(*Item) { return func(i *Item) { i.Requires = list } }

// footer is code that writes a line below each page.
func footer(slug, line string) string {
	return fmt.Sprintf("add_action( 'wp_footer', function () {\n\techo '<p class=\"%s\">%s</p>';\n} );\n", slug, line)
}

// activated is code that makes a table and a setting when the plugin is activated.
func activated(slug string) string {
	word := strings.ReplaceAll(slug, "-", "_")
	return fmt.Sprintf(
		"register_activation_hook( __FILE__, function () {\n\tglobal $wpdb;\n\t$wpdb->query( \"CREATE TABLE IF NOT "+
			"EXISTS {$wpdb->prefix}%s (id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY, note TEXT)\" "+
			");\n\tupdate_option( '%s_made', 1 );\n} );\n",
		word,
		word,
	)
}

// theme makes a small theme.
func theme(slug, version, colour string) Item {
	name := title(slug)
	return Item{
		Kind:         site.Theme,
		Slug:         slug,
		Name:         name,
		Version:      version,
		Text:         "A plain theme in " + colour,
		RequiresCore: "5.0",
		RequiresPHP:  "7.0",
		Files: map[string]string{
			"style.css": fmt.Sprintf(
				"/*\nTheme Name: %s\nVersion: %s\nRequires at least: 5.0\nRequires PHP: 7.0\n*/\nbody { background: "+
					"%s; font: 18px serif; }\n",
				name,
				version,
				colour,
			),
			"index.php": "<?php get_header(); ?><main class=\"" + slug +
				"\"><?php while ( have_posts() ) { the_post(); the_title( '<h2>', '</h2>' ); the_content(); } " +
				"?></main><?php get_footer();\n",
			"header.php": "<!doctype html><html <?php language_attributes(); ?>><head><meta " +
				"charset=\"utf-8\"><title><?php bloginfo( 'name' ); ?></title><link rel=\"stylesheet\" href=\"<?php " +
				"echo esc_url( get_stylesheet_uri() ); ?>\"><?php wp_head(); ?></head><body><h1><a href=\"<?php echo " +
				"esc_url( home_url( '/' ) ); ?>\"><?php bloginfo( 'name' ); ?></a></h1>\n",
			"footer.php": "<?php wp_footer(); ?></body></html>\n",
		},
	}
}

// items are all that the stand-in has.
func items() []Item {
	out := []Item{
		theme("slipway-plain", "1.0", "white"), theme("slipway-plain", "1.1", "ivory"),
		theme("driftwood", "2.0", "linen"),
		plugin("tide-table", "2.4.1", "Shows the tides", footer("tide", "High water at the quay")),
		plugin("tide-table", "2.5.0", "Shows the tides", footer("tide", "High water at the quay, and low water")),
		plugin("tide-table", "3.0.0", "Shows the tides; needs a later PHP",
			footer("tide", "Tides by the hour")+"$tide = match ( true ) { default => 'high' };\n", asksPHP("8.0")),
		plugin("fog-horn", "1.0", "Warns when there is fog", footer("fog", "Fog is expected")),
		plugin("fog-horn", "1.1", "Warns when there is fog; this version breaks every page",
			"add_action( 'init', function () {\n\tfog_horn_is_not_there();\n} );\n"),
		plugin("port-watch", "1.0", "Watches the port side", "function skerry_watch() {\n\treturn 'port';\n}\n"+
			footer("port-watch", "All well to port")),
		plugin("starboard-watch", "1.0", "Watches the starboard side; conflicts with the port side",
			"function skerry_watch() {\n\treturn 'starboard';\n}\n"+footer("starboard-watch", "All well to starboard")),
		plugin(
			"knot-counter",
			"0.8",
			"Counts knots as was done long ago: it fails from PHP 8 on",
			"add_action( 'init', function () {\n\t$knots = array( 'bowline' => 1 );\n\tif ( PHP_VERSION_ID >= 70200 "+
				") {\n\t\terror_reporting( error_reporting() & ~E_DEPRECATED );\n\t}\n\twhile ( list( $name, $n ) = "+
				"each( $knots ) ) {\n\t\tdefine( 'KNOT_' . strtoupper( $name ), $n );\n\t}\n} );\n",
		),
		plugin("deck-notes", "1.2", "Notes on deck, built on Quay Forms", footer("deck-notes", "No notes"),
			asksPlugins("quay-forms")),
		plugin("quay-forms", "0.9", "Forms for passengers",
			activated("quay-forms")+footer("quay-forms", "Write to the harbour")),
		plugin("quay-forms", "1.0", "Forms for passengers",
			activated("quay-forms")+footer("quay-forms", "Write to the harbour master")),
	}
	for _, s := range []string{"quay-visits 1.8 1.9", "bell-mailer 3.0.2 3.1.0", "gangway-shop 5.2.0 5.3.1",
		"coin-slot 4.1 4.2", "seat-map 1.1", "old-slider 0.9"} {
		words := strings.Fields(s)
		for _, v := range words[1:] {
			out = append(out, plugin(words[0], v, "As the ferry line has it", footer(words[0], title(words[0]))))
		}
	}
	for _, slug := range []string{"harbour-bell", "gull-gallery", "lantern-list", "buoy-map", "cabin-light",
		"anchor-log", "mast-head", "rope-store"} {
		out = append(out, plugin(slug, "1.0", "Says a line about the "+strings.ReplaceAll(slug, "-", " "),
			footer(slug, title(slug))),
			plugin(slug, "1.1", "Says a line about the "+strings.ReplaceAll(slug, "-", " "),
				footer(slug, title(slug)+" is new")))
	}
	return out
}
