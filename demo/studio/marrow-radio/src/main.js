import {bridge} from '@shellwright/bridge';

document.getElementById('player').textContent = 'On air: The Hedge Hour';
bridge.ready();
