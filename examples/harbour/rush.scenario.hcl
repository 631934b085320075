# The first fine Saturday: the rate of a morning, five times as high for a tenth
# of it, and gannet goes down in the middle of that. No trace is needed; try:
#   kestrix replay harbour.hcl -scenario rush.scenario.hcl
seed      = 7
instances = 2 # two proxies, each with a view of its own

load {
  rate    = "40/s"
  for     = "10m"
  shape   = "spike"
  clients = 2000
  paths   = ["/=4", "/seats=5", "/seats/{n}=4", "POST /bookings=1", "/sailings/today=4", "/board/live=0.05"]
}

streams {
  path   = ["/board/live"]
  lasts  = "90s"
  resend = true
}

behaviour "booking.*" {
  service = lognormal("120ms", 0.8)
  workers = 12
}

fault "gannet loses power" {
  backend = "booking.gannet"
  kind    = "refuse"
  at      = "5m"
  until   = "7m"
}

fault "shag's cable is loose" {
  backend   = "sailings.shag"
  kind      = "flap"
  at        = "4m"
  until     = "6m"
  fails_for = "4s"
  works_for = "16s"
}

expect "hardly anybody is turned away" {
  that = during("gannet loses power").error_rate <= 0.005
}

expect "the rush does not last" {
  that = after("gannet loses power").latency.p95 <= 2 * before("gannet loses power").latency.p95
}

expect "gannet gets customers again" {
  that = share("booking.gannet") >= 0.15 # most of those who moved stay where they are
}
