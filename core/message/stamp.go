package message

// StampField is the header field that a stamped message carries.
const StampField = "Missivum-Stamp"
