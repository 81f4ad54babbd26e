package example.larkfield.allotment;

import com.wrapper.BridgeActivity;

public class MainActivity extends BridgeActivity {}
