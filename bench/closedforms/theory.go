package main

import "math"

// All times are in service times of the mean 1, rates in requests per service time.

// mg1 returns the mean time in M/G/1 at a load, of a service time with a coefficient of
// variation (Pollaczek 1930, Khinchine 1932).
func mg1(rho, cv float64) float64 { return 1 + rho*(1+cv*cv)/2/(1-rho) }

// mmcK returns the share of requests that M/M/c/K turns away, and the mean time of the
// others, at an offered load (Kleinrock: Queueing Systems I, 3.6).
func mmcK(c, k int, offered float64) (lost, mean float64) {
	p, sum, in := 1.0, 0.0, 0.0
	for n := 0; n <= k; n++ {
		if n > 0 {
			p *= offered / float64(min(n, c))
		}
		sum += p
		in += float64(n) * p
	}
	lost = p / sum
	return lost, in / sum / (offered * (1 - lost))
}

// mdc returns the mean time in M/D/c. After a service time everything that was in service is
// gone, and so many have come: the number in the system is a Markov chain with the same
// stationary distribution as at any moment (Crommelin 1932).
func mdc(c int, offered float64) float64 {
	const states = 600
	come := make([]float64, states)
	come[0] = math.Exp(-offered)
	for n := 1; n < states; n++ {
		come[n] = come[n-1] * offered / float64(n)
	}
	p := make([]float64, states)
	p[0] = 1
	for range 4000 {
		next := make([]float64, states)
		for n, x := range p {
			if x < 1e-15 {
				continue
			}
			left := max(n-c, 0)
			for k := 0; left+k < states && (k < 10 || come[k] > 1e-18); k++ {
				next[left+k] += x * come[k]
			}
		}
		p = next
	}
	in := 0.0
	for n, x := range p {
		in += float64(n) * x
	}
	return in / offered // Little 1961
}

// repair returns the throughput of clients that think and share c workers, the machine repair
// model M/M/c//N (Kleinrock: Queueing Systems I, 3.8). It depends on the mean of the thinking
// alone (Baskett, Chandy, Muntz, Palacios 1975).
func repair(clients, c int, think float64) float64 {
	p, sum, done := 1.0, 0.0, 0.0
	for n := 0; n <= clients; n++ {
		if n > 0 {
			p *= float64(clients-n+1) / think / float64(min(n, c))
		}
		sum += p
		done += p * float64(min(n, c))
	}
	return done / sum
}

// network returns the throughput of clients that think and are sent to one of several servers
// at random, by mean value analysis (Reiser, Lavenberg 1980).
func network(clients, servers int, think float64) float64 {
	queue, x := 0.0, 0.0
	for n := 1; n <= clients; n++ {
		stay := (1 + queue) / float64(servers) // at each, times how often it is visited
		x = float64(n) / (think + stay*float64(servers))
		queue = x * stay
	}
	return x
}

// impatient returns the share of clients that leave M/M/1 before their response begins, whose
// patience is exponential and whose work is done all the same: the time in the system is
// exponential, and so is its race with the patience.
func impatient(rho, patience float64) float64 { return 1 / patience / (1/patience + 1 - rho) }
