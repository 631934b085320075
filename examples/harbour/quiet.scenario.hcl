# An ordinary morning: each backend works on four requests at a time and takes
# as long as the log says.
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
