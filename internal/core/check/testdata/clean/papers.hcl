# Freight papers are scanned and sent in, some of them large and slowly.
frontend "papers" {
  listen = "0.0.0.0:8443"

  tls {
    certificate = "papers.pem"
    key         = "papers.key"
  }

  limits {
    body_size = "1MiB"
  }

  timeouts {
    request_body = "30s"
  }

  route "upload" {
    when {
      path   = "/papers/**"
      method = ["POST", "PUT"]
    }
    send_to         = upstream.intake
    stream_requests = true

    limits {
      body_size = "512MiB"
    }

    timeouts {
      answer = "2m"
      idle   = "1m"
    }
  }

  route "read" {
    when {
      path   = "/papers/**"
      method = ["GET", "HEAD"]
    }
    send_to = upstream.shelf
  }

  route "front-page" {
    reply {
      status = 200
      body   = "send papers to /papers/\n"
    }
  }
}

upstream "intake" {
  algorithm = "two-choices"

  backends = {
    auk    = { address = "192.0.2.141:8080", max_in_flight = 40 }
    gannet = { address = "192.0.2.142:8080", max_in_flight = 40 }
    petrel = { address = "192.0.2.143:8080", max_in_flight = 40 }
  }

  queue {
    limit   = 20
    timeout = "5s"
  }

  probe "http" {
    path       = "/ready"
    every      = "5s"
    timeout    = "2s"
    down_after = 2
    up_after   = 2
  }

  retry {
    attempts = 2
    on       = ["connect"]
  }

  timeouts {
    connect = "1s"
    answer  = "30s"
  }
}

upstream "shelf" {
  algorithm = "round-robin"

  backends = {
    skua = "192.0.2.151:8080"
    shag = "192.0.2.152:8080"
    knot = "192.0.2.153:8080"
  }

  probe "http" {
    path       = "/ready"
    every      = "5s"
    timeout    = "2s"
    down_after = 2
    up_after   = 2
  }

  suspend {
    after = 4
    rest  = "10s"
    keep  = "50%"
    on    = ["connect", "timeout", "reset", "502", "503"]
  }

  retry {
    attempts = 2
    on       = ["connect", "reset", "502", "503"]
    budget   = "20%"
  }

  timeouts {
    connect = "1s"
    answer  = "10s"
  }
}
