# The worst kind: it accepts connections and never answers.
seed = 7

load {
  rate    = "60/s"
  for     = "4m"
  clients = 800
  paths   = ["/=4", "/seats=5", "POST /bookings=1"]
}

behaviour "booking.*" {
  service = lognormal("80ms", 0.8)
  workers = 8
}

fault "gannet hangs" {
  backend = "booking.gannet"
  kind    = "hang"
  at      = "1m"
  until   = "2m"
}

expect "one request in two hundred at most while it lasts" {
  that = during("gannet hangs").error_rate <= 0.005
}

expect "afterwards all is as before" {
  that = after("gannet hangs").latency.p95 <= 1.2 * before("gannet hangs").latency.p95
}
