// Package notify tells users and programs when the verdict of a domain changes. settings.go says by which channels; notify.go tells
// each channel once a verdict has lasted, and holds it against what was told last, so that nothing is told twice and what came back
// is not told at all. Failed attempts are made again ever more seldom; quiet hours put them off.
//
// How a domain is comes from the room that checks it, through Parts.News.
package notify
