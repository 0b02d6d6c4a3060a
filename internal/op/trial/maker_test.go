package trial_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/desk"
	"alibi/internal/op/trial"
	"alibi/internal/plan"
	"alibi/internal/runtime/mariadb/mariadbtest"
)

// A page of a plugin's own kind of content fails, and is not there without that plugin.
func TestTheCauseOnPagesThatAPluginMakes(t *testing.T) {
	w, s := prepared(t)
	for name, code := range map[string]string{
		"sailings": "add_action( 'init', function () { register_post_type( 'sailing', array( 'public' => true, " +
			"'label' => 'Sailings' ) ); } );",
		"fog-bank": "add_action( 'template_redirect', function () { if ( is_singular( 'sailing' ) ) { " +
			"fog_horn(); } } );",
	} {
		dir := filepath.Join(s.Root, "wp-content/plugins", name)
		require.NoError(t, os.MkdirAll(dir, 0o755))
		text := fmt.Sprintf("<?php\n/* Plugin Name: %s\n * Version: 1.0 */\n%s\n", name, code)
		require.NoError(t, os.WriteFile(filepath.Join(dir, name+".php"), []byte(text), 0o644))
	}
	p, err := w.Desk.Components.PlanChange(context.Background(), s.ID,
		desk.ChangeWish{On: []string{"sailings", "fog-bank"}}, nil)
	require.NoError(t, err)
	r := w.Run(p)
	require.Equal(t, plan.Done, r.State, r.Error)
	require.NoError(t, mariadbtest.DB(s.Database.Name).Exec(
		context.Background(),
		"INSERT INTO sk_posts (post_author, post_content, post_title, post_excerpt, to_ping, pinged, "+
			"post_content_filtered, post_type, post_name, post_date, post_date_gmt)"+
			" VALUES (1, 'Departs at seven', 'Dawn', '', '', '', '', 'sailing', 'dawn', NOW(), UTC_TIMESTAMP())",
	))
	m := tried(t, w, w.Site("base"), desk.TrialWish{Cause: true})
	require.NotNil(t, m.Found)
	assert.Equal(t, trial.Fails, m.AsItIs.State)
	assert.Equal(t, []string{"fog-bank", "sailings"}, m.Found.Plugins)
	assert.Equal(t, []string{"sailings"}, m.Found.Makers)
	assert.Contains(t, m.Found.Text, "the plugins fog-bank and sailings together make the check fail: its sailing "+
		"answers 500")
	assert.Contains(t, m.Found.Text, "without sailings some of the pages are not there, so that the others alone say "+
		"nothing of these")
}
