import React from 'react';
import {Text, View} from 'react-native';

// An apostrophe in markup, such as the one below, is no string.
export default function App() {
  return (
    <View>
      <Text>Swap what you can't sow</Text>
    </View>
  );
}
