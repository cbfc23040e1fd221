// Package routes is the list of the routes that the program has. A new one is one line here.
package routes

import (
	"vividstrain/core/route"
	"vividstrain/core/route/engine"
	"vividstrain/core/route/server"
	"vividstrain/core/route/simulated"
)

// All are the routes.
var All = route.Registry{
	engine.Descriptor,
	server.Descriptor,
	simulated.Descriptor,
}
