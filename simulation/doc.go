// Package simulation plays disasters: a whole house (service, warden, bench with stand-ins, records, people) in one
// process and in simulated time, with many faults at once, all of it drawn from a seed.
//
// What came of it is judged by what the stand-ins themselves saw switched and by what is on record, never by what the
// service says of itself. A scenario must be played in a bubble of simulated time ([testing/synctest]).
//
// A killed process is modelled by cutting it off from everything at one instant: its connections end, nothing more
// passes to its records, and its successor gets a copy of them as they then are. A process that stands still is held up
// at its connections.
package simulation
