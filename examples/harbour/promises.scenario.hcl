# What Tern Line promises its clients on an ordinary morning, whatever fails:
#   kestrix hunt harbour.hcl morning.log -scenario promises.scenario.hcl
seed = 7

# The application keeps a session of each client in its own memory.
clients {
  sessions = true
}

behaviour "*" {
  service = from_trace()
  workers = 4
  backlog = 64
}

expect "few requests fail" {
  that = result.error_rate <= 0.005
}

expect "responses stay quick" {
  that = result.elapsed.p99 <= 1.5
}
