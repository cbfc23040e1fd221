//go:build !amd64 && !arm64

package picture

func filterDownFast([]int16, [][]byte, []int16, int) int { return 0 }

func filterDownWideFast([]int16, [][]uint16, []int16, int, int) int { return 0 }

func filterAcrossFast([]uint16, []int16, []int16, int, int, int, int32) int { return 0 }

func narrowFast([]byte, []uint16) int { return 0 }

func (*ToneMapper) mapFast(*blocks, int) int { return 0 }
