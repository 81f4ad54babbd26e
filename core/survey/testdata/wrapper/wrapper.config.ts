import type {WrapperConfig} from 'wrapper-cli';

const config: WrapperConfig = {
  appId: 'example.larkfield.allotment',
  appName: 'Allotment Map',
  webDir: 'dist',
};

export default config;
