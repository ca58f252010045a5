export { bestAssignment } from './bestAssignment.js';
