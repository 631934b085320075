# A crowd at the counter: four fifths of what three backends can do, and petrel is
# an old machine that nobody remembered to give a smaller weight. Which way of
# balancing copes? No trace is needed; try:
#   kestrix compare steps/3-method.hcl -scenario crowd.scenario.hcl
seed = 7

load {
  rate    = "140/s"
  for     = "5m"
  clients = 1500
  paths   = ["/=4", "/seats=5", "/seats/{n}=4", "POST /bookings=1"]
}

behaviour "booking.*" {
  service = lognormal("150ms", 1)
  workers = 10
}

behaviour "booking.petrel" {
  service = lognormal("180ms", 1)
  workers = 7
}

expect "hardly anybody waits for long" {
  that = result.latency.p99 <= 1.5
}

expect "nobody is turned away" {
  that = result.error_rate == 0
}
