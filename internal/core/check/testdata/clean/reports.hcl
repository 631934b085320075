# Reports are worked out by few machines that are switched on as they are needed:
# the first is filled before the next gets anything. They say by themselves how they are.
frontend "reports" {
  listen = "192.0.2.5:8080"

  route "reports" {
    when {
      path = "/reports/**"
    }
    send_to = upstream.reports
  }

  route "rest" {
    reply {
      status = 404
      body   = "there is no such report\n"
    }
  }
}

upstream "reports" {
  algorithm = "first-fit"

  backends = {
    auk    = { address = "192.0.2.181:8080", max_in_flight = 8 }
    gannet = { address = "192.0.2.182:8080", max_in_flight = 8 }
    petrel = { address = "192.0.2.183:8080", max_in_flight = 8 }
    skua   = { address = "192.0.2.184:8080", max_in_flight = 8 }
  }

  queue {
    limit   = 40
    timeout = "5s"
  }

  probe "self-report" {
    port       = 8079
    every      = "2s"
    timeout    = "1s"
    down_after = 2
    up_after   = 2
  }

  suspend {
    after        = 3
    rest         = "10s"
    longest      = "2m"
    keep         = "50%"
    silent_after = "30s"
    on           = ["connect", "reset", "timeout"]
  }

  retry {
    attempts = 2
    on       = ["connect", "reset"]
    budget   = "20%"
  }

  timeouts {
    connect = "1s"
    answer  = "1m"
  }
}

control {
  listen = "unix:/run/kestrix/control.sock"
}
