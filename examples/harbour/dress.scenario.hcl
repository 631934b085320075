# A dress rehearsal of forty seconds: a backend is killed, another hangs.
#
#   kestrix rehearse harbour.hcl -scenario dress.scenario.hcl
seed = 7

load {
  rate  = "80/s"
  for   = "40s"
  paths = ["/seats=5", "POST /bookings=1", "/sailings/{n}=2", "/board/today=1"]
}

behaviour "*" {
  service = lognormal("40ms", 0.6)
  workers = 8
}

fault "auk is killed" {
  backend = "booking.auk"
  kind    = "refuse"
  at      = "10s"
  until   = "20s"
}

fault "skua hangs" {
  backend = "sailings.skua"
  kind    = "hang"
  at      = "12s"
  until   = "22s"
}

expect "few are lost" {
  that = result.error_rate <= 0.01
}

expect "auk is out within a second" {
  that = result.faults[0].detected_after <= 1
}
