// Package simulated is a simulated device in virtual time. Its profile states its cores and the
// cost of decoding on them, decoder blocks, memory, heat and power. An attempt simulates every
// frame as it queues for them before its deadline.
package simulated

import (
	"embed"
	"fmt"
	"io/fs"
	"slices"
	"strings"

	"vividstrain/core/load"
	"vividstrain/core/media"
	"vividstrain/core/media/registry"
)

// Profile describes a simulated device.
type Profile struct {
	Name    string            `yaml:"name"`
	About   string            `yaml:"about,omitempty"` // one sentence
	Spec    map[string]string `yaml:"spec,omitempty"`
	Cores   int               `yaml:"cores"`
	Threads int               `yaml:"threads"` // decoding threads per stream
	Queue   int               `yaml:"queue"`   // pictures decoded ahead
	Decode  map[string]Cost   `yaml:"decode"`  // on the cores, by codec; a missing codec is refused
	Blocks  []Block           `yaml:"blocks,omitempty"`
	Memory  Memory            `yaml:"memory"`
	Startup Startup           `yaml:"startup,omitempty"`
	Heat    Heat              `yaml:"heat"`
	Power   Power             `yaml:"power"`
	Idle    float64           `yaml:"idle_cores"` // cores that the system itself keeps busy
	Noise   float64           `yaml:"noise_pct"`  // standard deviation of a frame's cost
}

// Cost is the cost of decoding one frame.
type Cost struct {
	NSPerPixel float64 `yaml:"ns_per_pixel"`
	NSPerBit   float64 `yaml:"ns_per_bit,omitempty"`
	USPerFrame float64 `yaml:"us_per_frame,omitempty"`
	Depth10    float64 `yaml:"depth10_factor,omitempty"` // for more than 8 bits, 0: as 1
}

// Block is a fixed-function decoder, which decodes one frame at a time.
type Block struct {
	Name    string  `yaml:"name"`
	Takes   []Takes `yaml:"takes"`
	Streams int     `yaml:"streams"` // most streams at once; further ones go to the cores
	Cost    Cost    `yaml:"cost"`
}

// Takes is one kind of stream that a block decodes.
type Takes struct {
	Codec  string `yaml:"codec"`
	Depth  int    `yaml:"depth"` // bits a sample, at most
	Width  int    `yaml:"width"` // at most
	Height int    `yaml:"height"`
}

// Memory is the memory of a device and what playing takes of it, in bytes.
type Memory struct {
	Total     int64 `yaml:"total_bytes"`
	Used      int64 `yaml:"used_bytes"`       // by the system
	PerStream int64 `yaml:"per_stream_bytes"` // besides the pictures
	Pictures  int   `yaml:"pictures"`         // held for each stream
}

// Startup is other work that keeps cores busy while a player starts.
type Startup struct {
	Seconds float64 `yaml:"seconds"`
	Cores   int     `yaml:"cores"`
}

// Heat is a thermal model of one mass: the temperature moves towards room +
// DegreesPerWatt x power with a time constant. Above ThrottleC the clock steps
// down, to MinClock at least.
type Heat struct {
	RoomC          float64 `yaml:"room_c"`
	DegreesPerWatt float64 `yaml:"degrees_per_watt"`
	TimeConstantS  float64 `yaml:"time_constant_s"`
	ThrottleC      float64 `yaml:"throttle_c"`
	MinClock       float64 `yaml:"min_clock"` // 1: full clock
}

// Power is what the device draws, in watts.
type Power struct {
	IdleW  float64 `yaml:"idle_w"`
	CoreW  float64 `yaml:"core_w"` // for each busy core, by the square of its clock
	BlockW float64 `yaml:"block_w"`
}

// ParseProfile parses a profile in YAML. Errors are one line.
func ParseProfile(data []byte) (*Profile, error) {
	const largest = 1 << 20
	if len(data) > largest {
		return nil, fmt.Errorf("it is larger than %d bytes, too large for a device profile", largest)
	}
	var p Profile
	if err := load.DecodeYAML(data, &p); err != nil {
		return nil, err
	}
	return &p, p.check()
}

// YAML returns the profile as a file for ParseProfile.
func (p *Profile) YAML() ([]byte, error) { return load.EncodeYAML(p) }

// check limits every value, so that the simulation ends and makes sense.
func (p *Profile) check() error {
	type bound struct {
		name             string
		value, low, high float64
	}
	bounds := []bound{
		{"cores", float64(p.Cores), 1, 1024}, {"threads", float64(p.Threads), 1, 1024}, {"queue", float64(p.Queue), 1, 64},
		{"memory.total_bytes", float64(p.Memory.Total), 1 << 20, 1 << 50}, {"memory.used_bytes", float64(p.Memory.Used), 0, float64(p.Memory.Total)},
		{"memory.per_stream_bytes", float64(p.Memory.PerStream), 0, 1 << 50}, {"memory.pictures", float64(p.Memory.Pictures), 0, 1000},
		{"startup.seconds", p.Startup.Seconds, 0, 3600}, {"startup.cores", float64(p.Startup.Cores), 0, float64(p.Cores)},
		{"heat.room_c", p.Heat.RoomC, -60, 80}, {"heat.degrees_per_watt", p.Heat.DegreesPerWatt, 0, 1000},
		{"heat.time_constant_s", p.Heat.TimeConstantS, 0.1, 1e6}, {"heat.throttle_c", p.Heat.ThrottleC, p.Heat.RoomC, 1000},
		{"heat.min_clock", p.Heat.MinClock, 0.05, 1}, {"power.idle_w", p.Power.IdleW, 0, 1e5}, {"power.core_w", p.Power.CoreW, 0, 1e5},
		{"power.block_w", p.Power.BlockW, 0, 1e5}, {"idle_cores", p.Idle, 0, float64(p.Cores)}, {"noise_pct", p.Noise, 0, 30},
	}
	costs := func(where string, c Cost) {
		bounds = append(bounds, bound{where + ".ns_per_pixel", c.NSPerPixel, 0, 1e6}, bound{where + ".ns_per_bit", c.NSPerBit, 0, 1e6},
			bound{where + ".us_per_frame", c.USPerFrame, 0, 1e9}, bound{where + ".depth10_factor", c.Depth10, 0, 100})
	}
	for codec, c := range p.Decode {
		if !slices.Contains(registry.VideoCodecs(), codec) {
			return fmt.Errorf("decode: unknown codec %q; known are %s", codec, strings.Join(registry.VideoCodecs(), ", "))
		}
		costs("decode."+codec, c)
	}
	for _, b := range p.Blocks {
		bounds = append(bounds, bound{"blocks.streams", float64(b.Streams), 1, 100000})
		costs("blocks.cost", b.Cost)
	}
	for _, b := range bounds {
		if !(b.value >= b.low && b.value <= b.high) {
			return fmt.Errorf("%s must be %g to %g, not %g", b.name, b.low, b.high, b.value)
		}
	}
	if p.Name == "" {
		return fmt.Errorf("the device has no name")
	}
	return nil
}

// Slug returns the name as it is typed on the command line: "skerry-s1".
func (p *Profile) Slug() string { return strings.ReplaceAll(strings.ToLower(p.Name), " ", "-") }

// block returns the first block that decodes a format, or -1.
func (p *Profile) block(f media.Format) int {
	return slices.IndexFunc(p.Blocks, func(b Block) bool {
		return slices.ContainsFunc(b.Takes, func(t Takes) bool {
			return t.Codec == f.Codec && f.Depth <= t.Depth && f.Width <= t.Width && f.Height <= t.Height
		})
	})
}

// seconds returns the cost of a frame of the given size in bits at full clock.
func (c Cost) seconds(f media.Format, bits float64) float64 {
	factor := 1.0
	if f.Depth > 8 && c.Depth10 > 0 {
		factor = c.Depth10
	}
	return factor * (c.NSPerPixel*float64(f.Width*f.Height)*1e-9 + c.NSPerBit*bits*1e-9 + c.USPerFrame*1e-6)
}

//go:embed devices/*.yaml
var builtin embed.FS

// BuiltIn returns the devices that come with the program.
func BuiltIn() ([]*Profile, error) {
	files, err := fs.Glob(builtin, "devices/*.yaml")
	if err != nil {
		return nil, err
	}
	var profiles []*Profile
	for _, file := range files {
		data, err := builtin.ReadFile(file)
		if err != nil {
			return nil, err
		}
		p, err := ParseProfile(data)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", file, err)
		}
		profiles = append(profiles, p)
	}
	return profiles, nil
}

// Named returns the built-in device of that name.
func Named(name string) (*Profile, error) {
	profiles, err := BuiltIn()
	if err != nil {
		return nil, err
	}
	var names []string
	for _, p := range profiles {
		if strings.EqualFold(p.Name, name) || p.Slug() == name {
			return p, nil
		}
		names = append(names, p.Slug())
	}
	return nil, fmt.Errorf("there is no built-in device %q; there are %s", name, strings.Join(names, ", "))
}
