package report

import "kestrix/internal/core/study"

func HuntFigure(kind string, h *study.Hunt) ([]byte, error)  { return nil, nil }
func HuntPage(h *study.Hunt, version string) ([]byte, error) { return nil, nil }
