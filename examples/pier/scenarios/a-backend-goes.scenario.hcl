# One backend goes without a word, and comes back.
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

fault "auk goes" {
  backend = "booking.auk"
  kind    = "refuse"
  at      = "1m"
  until   = "2m"
}

expect "nobody is lost who can be helped" {
  that = result.error_rate <= 0.0005
}

expect "it is out within five seconds" {
  that = result.faults[0].detected_after <= 5
}

expect "only auk's customers move" {
  that = result.sessions.moved <= 0.3 * result.sessions.seen
}
