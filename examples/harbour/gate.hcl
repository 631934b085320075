# The turnstiles of Tern Line speak TLS of their own; it is passed through
# unopened, and told apart by the name they ask for.
frontend "gate" {
  listen   = "127.0.0.1:7000"
  protocol = "tcp"

  route "turnstiles" {
    when {
      sni = "gate.tern.example"
    }
    send_to = upstream.gate
  }
  route "test-bench" {
    when {
      sni    = "*.bench.tern.example"
      client = "127.0.0.0/8"
    }
    send_to = upstream.bench
  }
}

upstream "gate" {
  algorithm = "least-connections"

  backends = {
    auk    = { address = "127.0.0.1:7001", max_in_flight = 400 }
    gannet = { address = "127.0.0.1:7002", max_in_flight = 400 }
    shag   = { address = "127.0.0.1:7003", max_in_flight = 400 }
  }

  # The backends read who connects from a PROXY protocol header.
  proxy_protocol = "v2"

  probe "tcp" {
    every      = "2s"
    timeout    = "1s"
    down_after = 2
    up_after   = 3
  }

  queue {
    limit   = 50
    timeout = "2s"
  }

  timeouts {
    connect = "1s"
    idle    = "10m" # a turnstile says something at least every five minutes
  }
}

upstream "bench" {
  backends = {
    fulmar = "127.0.0.1:7009"
  }
  proxy_protocol = "v2"

  probe "tcp" {
    every = "10s"
  }
}
