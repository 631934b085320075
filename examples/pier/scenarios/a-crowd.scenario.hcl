# A Saturday in June: so many clients at once, each waiting for an answer.
seed = 7

load {
  requests    = 20000
  concurrency = 24
  paths       = ["/=4", "/seats=5", "POST /bookings=1"]
}

behaviour "booking.*" {
  service = lognormal("80ms", 0.8)
  workers = 8
}

expect "nobody is turned away" {
  that = result.failed == 0
}

expect "half are answered within a tenth of a second" {
  that = result.latency.p50 <= 0.1
}

expect "each carries its share" {
  that = result.upstreams.booking.imbalance.max_over_mean <= 1.1
}
