# From 0:30 on auk accepts connections and never answers.
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

fault "auk hangs" {
  backend = "booking.auk"
  kind    = "hang"
  at      = "30s"
}

expect "one request in a hundred may fail" {
  that = result.error_rate <= 0.01
}
