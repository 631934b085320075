# A quiet night on the quays: one backend could take all of it. auk is out from 1:00 to 4:00.
load {
  rate    = "12/s"
  for     = "5m"
  clients = 300
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
