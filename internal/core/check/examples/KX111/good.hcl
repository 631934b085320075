frontend "gate" {
  listen   = "192.0.2.1:7000"
  protocol = "tcp"

  route "turnstiles" {
    when {
      client = "10.0.0.0/8"
    }
    send_to = upstream.gate
  }
}

upstream "gate" {
  backends = {
    auk  = "127.0.0.1:7001"
    skua = "127.0.0.1:7002"
  }

  probe "tcp" {
    every   = "2s"
    timeout = "1s"
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
}
