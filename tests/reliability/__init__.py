"""Long runs that try to break Arkund: kills, full disks, many writers, damaged files and requests. docs/reliability.md has their figures."""
