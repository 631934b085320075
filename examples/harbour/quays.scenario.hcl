# From 2:00 to 5:00 the north quay has no power.
seed = 7

behaviour "*" {
  service = from_trace()
  workers = 4
  backlog = 64
}

fault "auk loses power" {
  backend = "booking.auk"
  kind    = "refuse"
  at      = "2m"
  until   = "5m"
}
fault "gannet loses power" {
  backend = "booking.gannet"
  kind    = "refuse"
  at      = "2m"
  until   = "5m"
}

expect "few requests are lost" {
  that = result.error_rate <= 0.005
}
