# Noon on the quays: two backends of four have to take it. auk is out from 1:00 to 4:00.
load {
  rate    = "55/s"
  for     = "5m"
  clients = 1500
}

behaviour "*" {
  service = lognormal("120ms", 0.8)
  workers = 4
}

fault "auk is out" {
  backend = "booking.auk"
  kind    = "refuse"
  at      = "1m"
  until   = "4m"
}
