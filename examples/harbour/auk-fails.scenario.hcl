# From 2:00 to 5:00 auk is gone, as when its process is killed.
seed = 7

# The application keeps a session of each customer in its own memory.
clients {
  sessions = true
}

behaviour "*" {
  service = from_trace()
  workers = 4
  backlog = 64
}

fault "auk is killed" {
  backend = "booking.auk"
  kind    = "refuse"
  at      = "2m"
  until   = "5m"
}

expect "few requests are lost" {
  that = result.error_rate <= 0.002
}
expect "auk is out within ten seconds" {
  that = result.faults[0].detected_after <= 10
}
