# From 2:00 to 5:00 the north quay has no power.
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

fault "no power on the quay" {
  zone  = "north-quay"
  kind  = "refuse"
  at    = "2m"
  until = "5m"
}

expect "few requests are lost" {
  that = result.error_rate <= 0.005
}
