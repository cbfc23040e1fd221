package model

import (
	"vividstrain/core/media/clip"
	"vividstrain/core/tally"
	"vividstrain/core/transcode"
)

// ConversionDocument is the result of a conversion as JSON. Times are in seconds.
type ConversionDocument struct {
	File      string         `json:"file"`
	Goal      string         `json:"goal"`
	Out       string         `json:"out,omitempty"`
	Copies    int            `json:"copies"`
	TookS     float64        `json:"took_s"`
	MediaS    float64        `json:"media_s"` // of one copy
	Bytes     int64          `json:"bytes"`   // of one copy
	Bitrate   float64        `json:"bitrate_bps"`
	Speed     float64        `json:"speed"`  // media seconds per second, of the slowest copy
	Frames    int            `json:"frames"` // of all copies
	CPUS      float64        `json:"cpu_s"`  // of the whole process
	DecodeS   float64        `json:"decode_cpu_s"`
	ScaleS    float64        `json:"scale_cpu_s"`
	ToneS     float64        `json:"tone_cpu_s"`
	EncodeS   float64        `json:"encode_cpu_s"`
	PeakBytes int64          `json:"peak_bytes"` // growth, of all copies
	Viewers   []tally.Buffer `json:"viewers,omitempty"`
	LeftOut   []string       `json:"left_out,omitempty"` // audio that the container does not take
}

// ConversionJSON returns the document of a conversion.
func ConversionJSON(job transcode.Job, r *transcode.Report) ConversionDocument {
	d := ConversionDocument{File: job.File, Goal: job.Order.Goal.String(), Out: job.Out, Copies: job.Copies, TookS: r.Took.Seconds(), MediaS: r.Media.Seconds(),
		Bytes: r.Bytes, Speed: r.Speed, Frames: r.Stats.Frames, CPUS: r.CPU.Seconds(), DecodeS: r.Stats.Decode.Seconds(), ScaleS: r.Stats.Scale.Seconds(),
		ToneS: r.Stats.Tone.Seconds(), EncodeS: r.Stats.Encode.Seconds(), PeakBytes: r.MemPeak, Viewers: r.Buffers, LeftOut: r.Left}
	if d.MediaS > 0 {
		d.Bitrate = 8 * float64(r.Bytes) / d.MediaS
	}
	return d
}

// VerifiedClip is what was found about one clip, as JSON.
type VerifiedClip struct {
	File   string `json:"file"`
	Frames int    `json:"frames"`
	AsMade bool   `json:"as_made"`
	Wrong  string `json:"wrong,omitempty"` // what was changed
}

// VerifiedJSON returns what was found about each clip of a manifest.
func VerifiedJSON(m *clip.Manifest, found map[string]error) []VerifiedClip {
	list := []VerifiedClip{}
	for _, e := range m.Clips {
		v := VerifiedClip{File: e.File, Frames: e.Frames, AsMade: found[e.File] == nil}
		if !v.AsMade {
			v.Wrong = found[e.File].Error()
		}
		list = append(list, v)
	}
	return list
}
