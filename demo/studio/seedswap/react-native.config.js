module.exports = {
  dependencies: {
    'garden-calendar': {
      platforms: {
        android: null, // its Android half is built from a fork
      },
    },
  },
};
