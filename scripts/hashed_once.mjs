// The form in which PostgreSQL keeps a password (RFC 5803), hashed once where it would be 4 096 times. For databases of
// tests only, to which thousands of connections are opened.
import { createHash, createHmac, pbkdf2Sync, randomBytes } from 'node:crypto';

const [password] = process.argv.slice(2);
const salt = randomBytes(16);
const salted = pbkdf2Sync(password, salt, 1, 32, 'sha256');
const keyed = (words) => createHmac('sha256', salted).update(words).digest();
const stored = createHash('sha256').update(keyed('Client Key')).digest();
console.log(`SCRAM-SHA-256$1:${salt.toString('base64')}$${stored.toString('base64')}:${keyed('Server Key').toString('base64')}`);
